// Command ydrion is the service, its client and its tools in one program.
package main

import (
	"os"

	"ydrion/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
