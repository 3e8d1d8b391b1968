// Package e2e drives the whole program: real files, a real PostgreSQL, the
// service on loopback through its client and its HTTP interface, and the
// console in a browser.
package e2e

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"

	"ydrion/testbed"
)

// soak makes the tests with deaths and faults long: `make soak`.
var soak bool

func TestMain(m *testing.M) {
	flag.BoolVar(&soak, "soak", false, "many more deaths and faults")
	flag.Parse()
	// They wait more than they work: for files to be quiet, for connections to be given up.
	if !slices.ContainsFunc(os.Args, func(a string) bool { return strings.HasPrefix(a, "-test.parallel") }) {
		if err := flag.Set("test.parallel", fmt.Sprint(2*runtime.GOMAXPROCS(0))); err != nil {
			panic(err)
		}
	}
	os.Exit(testbed.Main(m))
}
