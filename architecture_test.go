package ydrion_test

import (
	"encoding/json"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// floors are the rooms of the house from the ground up. A room may import what
// is below it; the lists name the exceptions among rooms of one floor.
var floors = [][]string{
	{"core/place", "core/value", "core/mail", "core/marks"},
	{"core/finding", "core/text", "core/batch"},
	{"core/shape", "core/lookup", "core/standard", "core/order"},
	{"core/format"},
	{"core/segments", "core/format/formattest"},
	{"core/format/csv", "core/format/hl7", "core/format/json", "core/format/x12", "core/format/edifact", "core/schema", "core/jsonschema", "core/lang"},
	{"core/flow", "core/formats"},
	{"timetable", "wire", "standin"},
	{"workspace", "files"},
	{"remote"},
	{"route", "archive", "listen", "deliver", "managed", "tell"},
	{"store"},
	{"run", "fetch", "receive"},
	{"lead"},
	{"service"},
	{"api", "console", "demo"},
	{"cli"},
	{"testbed", "cmd/ydrion"},
}

// notInCore are packages that the computation must not know.
var notInCore = []string{"net/http", "database/sql", "os", "time/tzdata", "math/rand", "math/rand/v2", "crypto/rand"}

func TestImportsPointDownwards(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	floor := map[string]int{}
	for n, rooms := range floors {
		for _, r := range rooms {
			floor[r] = n + 1
		}
	}
	decoder := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for decoder.More() {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := decoder.Decode(&p); err != nil {
			t.Fatal(err)
		}
		room := strings.TrimPrefix(p.ImportPath, "ydrion/")
		if room == "ydrion" || room == "e2e" {
			continue
		}
		seen++
		if floor[room] == 0 {
			t.Errorf("%s stands on no floor: give it one, or a better home", room)
			continue
		}
		for _, i := range p.Imports {
			other, ours := strings.CutPrefix(i, "ydrion/")
			if ours && floor[other] >= floor[room] {
				t.Errorf("%s imports %s, which is not below it", room, other)
			}
			for _, forbidden := range notInCore {
				if strings.HasPrefix(room, "core/") && i == forbidden {
					t.Errorf("%s imports %s: the computation is handed what it needs", room, i)
				}
			}
		}
	}
	if seen != len(floor) {
		t.Errorf("%d rooms are there, %d are on the plan", seen, len(floor))
	}
}

func TestOneFormatDoesNotKnowAnother(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "./core/format/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		parts := strings.Fields(line)
		for _, i := range parts[1:] {
			if strings.HasPrefix(i, "ydrion/core/format/") {
				t.Errorf("%s imports %s", parts[0], i)
			}
		}
	}
}

// TestOtherProcessors: what has instructions for one kind of processor does the same without them.
func TestOtherProcessors(t *testing.T) {
	out, err := exec.Command("go", "test", "-tags", "purego", "./core/marks").CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// TestDirectModules: go.mod tells the modules that are imported here from those that only others
// need.
func TestDirectModules(t *testing.T) {
	content, err := os.ReadFile("go.mod")
	if err != nil {
		t.Fatal(err)
	}
	imported := map[string]bool{}
	err = filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && path != ".") {
			return filepath.SkipDir
		}
		if err != nil || filepath.Ext(path) != ".go" {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range file.Imports {
			imported[strings.Trim(i.Path.Value, `"`)] = true
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(string(content), "\n") {
		fields := strings.Fields(line)
		if len(fields) < 2 || !strings.HasPrefix(fields[1], "v") || !strings.HasPrefix(line, "\t") {
			continue
		}
		direct := false
		for path := range imported {
			direct = direct || path == fields[0] || strings.HasPrefix(path, fields[0]+"/")
		}
		if said := !strings.HasSuffix(line, "// indirect"); said != direct {
			t.Errorf("%s: go.mod says direct: %v; it is imported here: %v", fields[0], said, direct)
		}
	}
}
