package jsonschema

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	_ "github.com/google/jsonschema-go/jsonschema" // for the published suite that stands beside it
	js "github.com/santhosh-tekuri/jsonschema/v6"
)

// remotes gives the files of the suite that its schemas refer to by addresses.
type remotes struct{ folder string }

func (r remotes) Load(address string) (any, error) {
	name, local := strings.CutPrefix(address, "http://localhost:1234/")
	if !local {
		return nil, fmt.Errorf("%s is not of the suite", address)
	}
	f, err := os.Open(filepath.Join(r.folder, filepath.FromSlash(name)))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return js.UnmarshalJSON(f)
}

// TestPublishedSuite runs the required tests that the authors of JSON Schema publish, through what
// records go through: every value that is valid has nothing said of it, every other has.
func TestPublishedSuite(t *testing.T) {
	out, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/google/jsonschema-go").Output()
	if err != nil {
		t.Fatal(err)
	}
	folder := filepath.Join(strings.TrimSpace(string(out)), "jsonschema", "testdata")
	for edition, draft := range map[string]*js.Draft{"draft2020-12": js.Draft2020, "draft7": js.Draft7} {
		files, err := filepath.Glob(filepath.Join(folder, edition, "*.json"))
		if err != nil || len(files) < 30 {
			t.Fatalf("%d files of %s: %v", len(files), edition, err)
		}
		ran, proved, fitting := 0, 0, 0
		for _, name := range files {
			content, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			var groups []struct {
				Description string
				Schema      json.RawMessage
				Tests       []struct {
					Description string
					Data        json.RawMessage
					Valid       bool
				}
			}
			if err := json.Unmarshal(content, &groups); err != nil {
				t.Fatal(err)
			}
			for _, g := range groups {
				root, findings := compile("suite.json", g.Schema, false, remotes{filepath.Join(folder, "remotes")}, draft)
				if root == nil {
					t.Errorf("%s, %s, %s: %v", edition, filepath.Base(name), g.Description, findings)
					continue
				}
				for _, one := range g.Tests {
					ran++
					var said []string
					s := &Schema{of: []*js.Schema{root}, ruled: newRuled([]*js.Schema{root})}
					if v, _ := s.ruled.verdict(one.Data, nil); v != open {
						if proved++; v != holds(one.Valid) {
							t.Errorf("%s, %s, %s, %s: valid is %v, and a proof says %v", edition, filepath.Base(name), g.Description, one.Description, one.Valid, v == fits)
						}
						if one.Valid {
							fitting++
						}
					}
					s.Check(one.Data, func(v Violation) { said = append(said, v.Code+" "+v.Text) }, nil)
					if (len(said) == 0) != one.Valid {
						t.Errorf("%s, %s, %s, %s: valid is %v, but %q", edition, filepath.Base(name), g.Description, one.Description, one.Valid, said)
					}
				}
			}
		}
		if ran < 700 {
			t.Errorf("%s: only %d tests were run", edition, ran)
		}
		if proved < ran*2/3 || fitting < ran/3 {
			t.Errorf("%s: only %d of %d tests were proved, %d of what is valid", edition, proved, ran, fitting)
		}
		t.Logf("%s: %d tests, %d proved, %d of them valid", edition, ran, proved, fitting)
	}
}
