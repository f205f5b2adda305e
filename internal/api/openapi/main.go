// Openapi prints the OpenAPI description of the API. With -documents it leaves the paths out: the types of the console are made of
// the documents alone.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"

	"inkpost.example/inkpost/internal/api"
)

func main() {
	documents := flag.Bool("documents", false, "leave the paths out")
	flag.Parse()
	if err := run(*documents); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(documents bool) error {
	doc, err := api.Description("development")
	if err != nil {
		return err
	}
	if documents {
		var all map[string]json.RawMessage
		if err := json.Unmarshal(doc, &all); err != nil {
			return err
		}
		all["paths"] = json.RawMessage("{}")
		if doc, err = json.Marshal(all); err != nil {
			return err
		}
	}
	_, err = os.Stdout.Write(doc)
	return err
}
