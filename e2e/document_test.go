package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"ydrion/testbed"
)

// TestEveryOperation calls each operation of the document with what is not there, with a body
// that nobody understands, and with a parameter that there is not: it answers with a problem
// that says so, never that something went wrong inside.
func TestEveryOperation(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	content, err := os.ReadFile("../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var document struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal(content, &document); err != nil {
		t.Fatal(err)
	}
	operations := 0
	for path, methods := range document.Paths {
		if path == "/api/events" || path == "/api/backup" {
			continue // without an end, and large
		}
		for method := range methods {
			operations++
			at := strings.NewReplacer("{name}", "none", "{id}", "999999", "{sample}", "none", "{hold}", "999999").Replace(path)
			for _, test := range []struct{ path, body string }{{at, ""}, {at, "{}"}, {at, `{"nobody":"knows"}`}, {at, `[`}, {at + "?nobody=knows", "{}"}} {
				if method == "get" && test.body != "" && test.path == at {
					continue
				}
				status, kind, text := ask(t, b, strings.ToUpper(method), test.path, b.Token, test.body)
				switch {
				case status >= 500:
					t.Errorf("%s %s %s: %d %s", method, test.path, test.body, status, text)
				case status >= 400 && (!strings.HasPrefix(kind, "application/problem+json") || !json.Valid([]byte(text)) || !strings.Contains(text, `"detail"`)):
					t.Errorf("%s %s %s: %d, no problem document: %s %s", method, test.path, test.body, status, kind, text)
				case strings.Contains(test.path, "?") && status != 422 && status != 404:
					t.Errorf("%s %s: %d %.200s", method, test.path, status, text)
				case strings.Contains(at, "none") && status < 400 && method != "delete":
					t.Errorf("%s %s: %d %.200s", method, test.path, status, text)
				case strings.Contains(text, "SQLSTATE") || strings.Contains(text, "relation "):
					t.Errorf("%s %s: the database's words: %s", method, test.path, text)
				}
			}
		}
	}
	if operations < 30 {
		t.Errorf("only %d operations were called", operations)
	}
}
