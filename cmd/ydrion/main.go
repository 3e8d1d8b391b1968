// Command ydrion is the service, its client and its tools in one program.
package main

import (
	"os"
	_ "time/tzdata" // zones are known on machines that have no database of them

	"ydrion/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
