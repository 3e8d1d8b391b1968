// Package e2e drives the whole program: real files, a real PostgreSQL, the
// service on loopback through its client and its HTTP interface, and the
// console in a browser.
package e2e

import (
	"flag"
	"os"
	"testing"

	"ydrion/testbed"
)

// soak makes the tests with deaths and faults long: `make soak`.
var soak bool

func TestMain(m *testing.M) {
	flag.BoolVar(&soak, "soak", false, "many more deaths and faults")
	flag.Parse()
	os.Exit(testbed.Main(m))
}
