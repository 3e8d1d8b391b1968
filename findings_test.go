package ydrion_test

import (
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestFindingsAreListed: each code of a finding is on its page, and no other.
func TestFindingsAreListed(t *testing.T) {
	page, err := os.ReadFile("docs/findings.md")
	if err != nil {
		t.Fatal(err)
	}
	listed := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\|").FindAllStringSubmatch(string(page), -1) {
		if listed[m[1]] {
			t.Errorf("%s is listed twice", m[1])
		}
		listed[m[1]] = true
	}
	out, err := exec.Command("git", "ls-files", "*.go").Output()
	if err != nil {
		t.Fatal(err)
	}
	groups := []string{"file", "text", "reject", "look", "csv", "json", "hl7", "x12", "edifact", "standard", "schema", "map", "deliver", "convert", "lookup", "route", "sample", "workspace", "description", "sef", "shape", "collect"}
	code := regexp.MustCompile(`"((?:` + strings.Join(groups, "|") + `)\.[a-z][a-zA-Z-]*)"`)
	made := regexp.MustCompile(`Name ?\+ ?"\.([a-z-]+)"|(?:wrong|broken)\((?:buf, [a-z0-9]+, )?"([a-z-]+)"`)
	// Words of maps and settings that look like codes.
	words := []string{"file.name", "file.stem", "file.extension", "file.folder", "file.event", "file.size", "file.type", "file.head", "collect.key", "collect.files", "collect.by", "collect.complete", "route.go", "map.go", "schema.json", "x12.go", "schema.pattern"}
	found := map[string]bool{}
	for _, file := range strings.Fields(string(out)) {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		source, err := os.ReadFile(file)
		if os.IsNotExist(err) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range code.FindAllStringSubmatch(string(source), -1) {
			if !slices.Contains(words[:len(words)-1], m[1]) {
				found[m[1]] = true
			}
		}
		if strings.HasPrefix(file, "core/segments/") {
			for _, m := range made.FindAllStringSubmatch(string(source), -1) {
				found["*."+m[1]+m[2]] = true
			}
		}
	}
	for c := range found {
		if !listed[c] {
			t.Errorf("%s is not listed in docs/findings.md", c)
		}
	}
	for c := range listed {
		if !found[c] && c != "map.reject" && c != "map.skip" {
			t.Errorf("docs/findings.md lists %s, which is never said", c)
		}
	}
	if len(found) < 100 {
		t.Errorf("only %d codes were found: this test must follow", len(found))
	}
}
