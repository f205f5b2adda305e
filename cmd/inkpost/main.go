// Command inkpost is the service and its command line.
package main

import (
	"context"
	"os"

	"inkpost.example/inkpost/internal/cli"
)

func main() { os.Exit(cli.Main(context.Background(), os.Args[1:])) }
