package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ydrion/testbed"
)

// TestRouteOfPositions: a route of messages needs no schema. Its check tells what no message has and
// what is rejected of a sample; what it rejects can be mended and handed to it again.
func TestRouteOfPositions(t *testing.T) {
	t.Parallel()
	b := testbed.Start(t)
	folder := t.TempDir()
	const lab = "MSH|^~\\&|LAB||||2026||ORU^R01|M1|P|2.5.1\rPID|1||7^^^A^PI~T-8^^^B^MR||Mara\rOBR|1||S1\rOBX|1|NM|HGB^Hb||71|g/L\rOBX|2|NM|WBC^Leu||high\rNTE|1||by hand\r"
	for name, content := range map[string]string{
		"samples/results.hl7": strings.Replace(lab, "high", "4.5", 1),
		"samples/row.csv":     "seal,code,value,note\n",
		"routes/results.yaml": "route: results\nlisten: {folder: \"{laboratory}/in\"}\nread: {format: hl7, record: OBX, sample: samples/results.hl7}\nmap: maps/results.map\ndeliver: {folder: \"{laboratory}/out\", name: \"{file.stem}.csv\"}\nrejected: {folder: \"{laboratory}/rejected\"}\n",
		"maps/results.map":    "map results\nsource hl7\ntarget csv based on samples/row.csv\n\nseal  = PID-3[5=MR].1\ncode  = OBX-3.1\nvalue = OBX-5 | number\nnote  = NTE-3 if absent \"\"\n",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if code, said := command(nil, "check", folder); code != 0 || !strings.Contains(said, "nothing wrong") {
		t.Fatalf("exit code %d: %s", code, said)
	}
	if code, said := command(b, "publish", folder, "--start"); code != 0 {
		t.Fatalf("exit code %d: %s", code, said)
	}
	b.Drop("laboratory/in", "one.hl7", lab)
	p := b.Ended("one.hl7", 0)
	if p.State != "delivered" || p.Good != 1 || p.Rejected != 1 {
		t.Fatalf("%+v", p)
	}
	if got := b.Read("laboratory/out/one.csv"); got != "seal,code,value,note\nT-8,HGB,71,\n" {
		t.Errorf("%q", got)
	}
	rejected := b.Read("laboratory/rejected/" + fmt.Sprintf("one.rejected-%d.hl7", p.ID))
	if want := strings.Replace(lab, "OBX|1|NM|HGB^Hb||71|g/L\r", "", 1); rejected != want {
		t.Errorf("rejected is %q, not %q", rejected, want)
	}
	b.Drop("laboratory/in", "two.hl7", strings.Replace(rejected, "high", "4.5", 1))
	if p := b.Ended("two.hl7", 0); p.State != "delivered" || p.Good != 1 || p.Rejected != 0 {
		t.Fatalf("%+v", p)
	}
	if got := b.Read("laboratory/out/two.csv"); got != "seal,code,value,note\nT-8,WBC,4.5,by hand\n" {
		t.Errorf("%q", got)
	}
	sheet, err := b.Client.Route(context.Background(), "results")
	if err != nil || !strings.Contains(fmt.Sprint(sheet.Stages), "the route takes 4 positions of them") || len(sheet.Files) != 4 {
		t.Errorf("%+v %v", sheet, err)
	}
}
