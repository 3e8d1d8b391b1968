package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ydrion/testbed"
)

// TestFirstRoutes: of each kind of file a first route is written that passes its check, takes the file that it was
// written for, and delivers its good records as they came.
func TestFirstRoutes(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	folder := t.TempDir()
	names := map[string]string{}
	packed := filepath.Join(t.TempDir(), "brunholm.zip")
	if err := os.WriteFile(packed, archived(t, "week 48/sheet.csv", "../demo/files/brunholm-2026-11-23.csv"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, test := range map[string]struct {
		file string
		args []string
		good int64
		says string
	}{
		"sheets":  {"files/brunholm-2026-11-23.csv", nil, 13, "collected_at is taken for a date dd/MM/yyyy HH:mm"},
		"weights": {"files/weights-2026-11-24.csv", []string{"--encoding", "windows-1252"}, 2, "2 values of the sample at Gain are not: the route rejects such records"},
		"objects": {"workspace/samples/specimens.json", nil, 2, "the records are taken to be the elements of /specimens"},
		"results": {"workspace/samples/lab-results.hl7", nil, 3, ""},
		"answers": {"workspace/samples/feed-answers.edi", nil, 2, ""},
		"orders":  {"workspace/samples/reagent-answers.x12", nil, 2, ""},
		"packed":  {packed, nil, 13, "collected_at is taken for a date dd/MM/yyyy HH:mm"},
	} {
		file := test.file
		if !filepath.IsAbs(file) {
			file = filepath.Join("../demo", file)
		}
		code, said := command(nil, append([]string{"new", name, file, "-w", folder}, test.args...)...)
		if code != 0 || !strings.Contains(said, test.says) || !strings.Contains(said, "ydrion check") {
			t.Fatalf("%s: %d %s", name, code, said)
		}
		own, err := os.OpenFile(filepath.Join(folder, "routes", name+".yaml"), os.O_APPEND|os.O_WRONLY, 0)
		if err == nil {
			_, err = own.WriteString("# by hand\n")
		}
		if err := errors.Join(err, own.Close()); err != nil {
			t.Fatal(err)
		}
		if code, said := command(nil, "new", name, file, "-w", folder); code == 0 || !strings.Contains(said, "is there already, and is not overwritten") {
			t.Errorf("%s again: %d %s", name, code, said)
		}
		names[name] = file
		_, said = command(nil, "try", name, file, "-w", folder)
		if !strings.Contains(said, fmt.Sprintf("= %d good", test.good)) {
			t.Errorf("%s: %s", name, said)
		}
	}
	if code, said := command(nil, "check", folder); code != 0 || !strings.Contains(said, "7 routes, 0 errors") {
		t.Errorf("%d %s", code, said)
	}
	files := map[string]string{}
	if err := filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		name, _ := filepath.Rel(folder, path)
		files[name] = strings.NewReplacer("{in}", "{stations}/first", "{out}", "{laboratory}").Replace(string(content))
		return err
	}); err != nil {
		t.Fatal(err)
	}
	delete(files, "environments/local.yaml")
	b.Publish(files)
	for name, file := range names {
		content, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		b.Drop("stations/first/"+name, filepath.Base(file), string(content))
		if p := b.Ended(filepath.Base(file), 0); p.State != "delivered" {
			t.Errorf("%s: %+v", name, p)
		}
		if strings.Contains("results answers orders", name) { // nothing is wrong with them
			if got := b.Read("laboratory", name, filepath.Base(file)); got != string(content) {
				t.Errorf("%s did not go on as it came: %q", name, got)
			}
		}
	}
	var dry struct{ Files map[string]string }
	other := t.TempDir()
	code, said := command(nil, "new", "again", names["sheets"], "-w", other, "--dry-run", "--json")
	if err := json.Unmarshal([]byte(said), &dry); code != 0 || err != nil || len(dry.Files) != 4 || !strings.Contains(dry.Files["routes/again.yaml"], "names: \"*.csv\"") {
		t.Errorf("%d %v %s", code, err, said)
	}
	if there, _ := os.ReadDir(other); len(there) != 0 {
		t.Errorf("a dry run has written %v", there)
	}
	large := filepath.Join(other, "large.csv")
	if err := os.WriteFile(large, []byte("tag,kg\n"+strings.Repeat("T-1,17.5\n", 40_000)), 0o644); err != nil {
		t.Fatal(err)
	}
	if code, said := command(nil, "new", "large", large, "-w", filepath.Join(other, "new")); code != 0 || !strings.Contains(said, "is not kept as a sample") {
		t.Errorf("%d %s", code, said)
	}
	if code, said := command(nil, "check", filepath.Join(other, "new")); code != 0 {
		t.Errorf("%d %s", code, said)
	}
	for _, wrong := range [][]string{{"new", "Not Good", large}, {"new", "none", filepath.Join(other, "none.csv")}} {
		if code, said := command(nil, wrong...); code != 2 {
			t.Errorf("%v: %d %s", wrong, code, said)
		}
	}
	picture := filepath.Join(other, "x.png")
	if err := os.WriteFile(picture, []byte("\x89PNG\r\n\x1a\n\x00\x00\x00"), 0o644); err != nil {
		t.Fatal(err)
	}
	if code, said := command(nil, "new", "pictures", picture, "-w", other); code == 0 || !strings.Contains(said, "format: file") {
		t.Errorf("%d %s", code, said)
	}
}

// archived is a zip archive of one member with the content of a file.
func archived(t *testing.T, member, file string) []byte {
	t.Helper()
	content, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(member)
	if err == nil {
		_, err = w.Write(content)
	}
	if err := errors.Join(err, z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestFirstRoutesOfOddFiles: a first route takes the file that it was written for, whole, also where columns have no names or names that begin
// with digits, where lists are not of objects, and where days have the names of months.
func TestFirstRoutesOfOddFiles(t *testing.T) {
	folder := t.TempDir()
	for name, test := range map[string]struct {
		content string
		good    int
		says    string
	}{
		"doses.csv":  {"tag;1st dose;2nd dose\nT-1;12,5;13,5\nT-2;11,5;14,5\n", 2, "1st dose is taken for a number with a comma"},
		"ends.csv":   {"tag,kg,\nT-1,12,\nT-2,13,x\n", 2, "columns that have no name"},
		"twice.csv":  {"tag,note,note,day\nT-1,a,b,01-Dec-2026\nT-2,a,c,02-Dec-2026\n", 2, "columns that have no name"},
		"tags.json":  {`{"tag":"T-1","kg":12.5,"notes":["calm","wet"]}`, 1, "kg is taken for a number with a point"},
		"empty.json": {`[{"tag":"T-1","tests":[]},{"tag":"T-2","tests":[]}]`, 2, ""},
		"inner.json": {`[{"tag":"T-1","tests":[{"code":"WBC","value":4.5}]}]`, 1, ""},
		"outer.json": {`{"no":7,"seals":[{"tag":"T-1","notes":["calm"]},{"tag":"T-2","notes":[]}]}`, 2, "the records are taken to be the elements of /seals"},
	} {
		file := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(file, []byte(test.content), 0o600); err != nil {
			t.Fatal(err)
		}
		route, _, _ := strings.Cut(name, ".")
		if code, said := command(nil, "new", route, file, "-w", folder); code != 0 || !strings.Contains(said, test.says) {
			t.Errorf("%s: %d %s", name, code, said)
		}
		if code, said := command(nil, "try", route, file, "-w", folder); code != 0 || !strings.Contains(said, fmt.Sprintf("= %d good + 0 rejected", test.good)) {
			t.Errorf("%s: %d %s", name, code, said)
		}
	}
	if code, said := command(nil, "check", folder); code != 0 {
		t.Errorf("%d %s", code, said)
	}
	for name, content := range map[string]string{"none.json": `{}`, "numbers.json": `[1, 2, 3]`} {
		file := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		if code, said := command(nil, "new", "none", file, "-w", folder); code == 0 || !strings.Contains(said, "format: file") {
			t.Errorf("%s: %d %s", name, code, said)
		}
	}
}
