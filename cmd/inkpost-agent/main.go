// Command inkpost-agent is the agent alone, for small machines at a site.
package main

import (
	"context"
	"os"

	"inkpost.example/inkpost/internal/agent/command"
)

func main() { os.Exit(command.Main(context.Background(), os.Args[1:])) }
