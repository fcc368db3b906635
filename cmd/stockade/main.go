// Command stockade is the service, its command-line client and the tool on the
// isolated side.
package main

import (
	"os"

	"stockade/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
