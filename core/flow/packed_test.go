package flow_test

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/core/text"
)

// archived is a zip archive of members, each a name and a content.
func archived(t *testing.T, members ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		w, err := z.Create(members[i])
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, members[i+1]); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestArchives: the one member of an archive that a route reads is read, from a file and from a stream; where there is not
// one, or it is damaged, nothing passes for it.
func TestArchives(t *testing.T) {
	sheet := "specimen_id,animal_tag,species_code,station,collected_at,sex,weight_kg,note,test_code,priority,lat,lon\n" +
		strings.Repeat("S-1,T-1,GS,ST01,25/11/2026 07:10,Female,20.5,,WBC,R,58.1,-3.2\n", 3000)
	plain := func(name string) bool { return strings.HasSuffix(name, ".csv") }
	whole := archived(t, "sheet.csv", sheet)
	flipped := bytes.Clone(whole)
	flipped[len("PK..")+200] ^= 0x55
	for name, test := range map[string]struct {
		in      []byte
		packing text.Packing
		fits    func(string) bool
		records int64
		says    string
	}{
		"one":               {whole, text.Zip, nil, 3000, ""},
		"one that fits":     {archived(t, "read me.txt", "hello", "week/sheet.csv", sheet, "week/", ""), text.Zip, plain, 3000, ""},
		"beside a Mac's":    {archived(t, "__MACOSX/._sheet.csv", "x", "sheet.csv", sheet, ".DS_Store", "y"), text.Zip, nil, 3000, ""},
		"two":               {archived(t, "a.csv", sheet, "b.csv", sheet), text.Zip, plain, 0, "file.member: the archive has 2 members that the route would read, and it reads one: a.csv, b.csv"},
		"none":              {archived(t, "a.txt", sheet), text.Zip, plain, 0, "file.member: none of the archive's members is one that the route reads: a.txt"},
		"empty":             {archived(t), text.Zip, plain, 0, "file.member: the archive has no members"},
		"of one name":       {archived(t, "a.csv", sheet, "a.csv", sheet), text.Zip, nil, 0, "file.member: the archive has 2 members"},
		"cut":               {whole[:len(whole)-30], text.Zip, nil, 0, "file.member: the archive is damaged, or not whole"},
		"flipped":           {flipped, text.Zip, nil, -1, "file.damaged: the compressed data is damaged"},
		"no archive":        {[]byte(sheet), text.Zip, nil, 0, "file.compressed: the file is not a zip archive"},
		"unexpected":        {whole, text.Unpacked, nil, 0, "file.compressed: the file is a zip archive"},
		"instead of gzip":   {whole, text.Gzip, nil, 0, "file.compressed: the file is a zip archive"},
		"nothing in it":     {archived(t, "sheet.csv", ""), text.Zip, nil, 0, "file.empty"},
		"more than is told": {archived(t, "a.csv", "", "b.csv", "", "c.csv", "", "d.csv", "", "e.csv", "", "f.csv", ""), text.Zip, nil, 0, "e.csv and 1 more"},
	} {
		for kind, in := range map[string]io.Reader{"file": bytes.NewReader(test.in), "stream": io.MultiReader(bytes.NewReader(test.in))} {
			p := plan(t)
			p.Packing, p.Member = test.packing, test.fits
			var c collector
			result, err := p.Run(context.Background(), in, flow.Inputs{Cores: 1}, &c)
			if err != nil {
				t.Errorf("%s, %s: %v", name, kind, err)
				continue
			}
			said := ""
			for _, f := range result.Findings {
				said += f.Code + ": " + f.Message + "\n"
			}
			if test.records >= 0 && result.Good != test.records || !strings.Contains(said, test.says) || test.says == "" && said != "" {
				t.Errorf("%s, %s: %d good, %q", name, kind, result.Good, said)
			}
			if wrong := result.Unreadable || result.Disagrees || result.Broken; wrong != (test.says != "") {
				t.Errorf("%s, %s: %+v", name, kind, result)
			}
		}
	}
}
