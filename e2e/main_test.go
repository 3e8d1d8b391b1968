// Package e2e drives the whole program: real files, a real PostgreSQL, the
// service on loopback through its client and its HTTP interface, and the
// console in a browser.
package e2e

import (
	"os"
	"testing"

	"ydrion/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Main(m)) }
