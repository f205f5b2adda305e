// Command inkpost is the service and its command line.
package main

import (
	"context"
	"os"
	_ "time/tzdata" // time zones of people and planned work, also where the system has none

	"inkpost.example/inkpost/internal/cli"
)

func main() { os.Exit(cli.Main(context.Background(), os.Args[1:])) }
