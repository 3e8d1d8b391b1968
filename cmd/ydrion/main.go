// Command ydrion is the service, its client and its tools in one program.
package main

import (
	"os"
	"runtime"
	"runtime/debug"
	_ "time/tzdata" // zones are known on machines that have no database of them

	"ydrion/cli"
)

func main() {
	if os.Getenv("GOGC") == "" {
		begin()
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}

// begin puts off the first garbage collection until the heap has come to 16 MiB, instead of 4: what a program begins with is read
// once, and most of it stays. A tenth of the time of a short command goes into collections otherwise.
func begin() {
	debug.SetGCPercent(400)
	runtime.AddCleanup(new([64]byte), func(usual int) { debug.SetGCPercent(usual) }, 100)
}
