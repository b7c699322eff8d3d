// Command greenlever runs the Green Lever service and is its command line.
package main

import (
	"os"

	"greenlever.example/greenlever/internal/cli"
)

func main() { os.Exit(cli.Main()) }
