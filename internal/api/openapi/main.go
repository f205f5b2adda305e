// Openapi prints the OpenAPI description of the API, from which the types of the console are made.
package main

import (
	"fmt"
	"os"

	"inkpost.example/inkpost/internal/api"
)

func main() {
	doc, err := api.Description("development")
	if err == nil {
		_, err = os.Stdout.Write(doc)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
