package route

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// mapped sends a file of one format through a map onto a sample, with one field that is called v,
// and gives the output as it is delivered.
func mapped(t *testing.T, read, path, in, target, sample, lines string) (out string, wrong []string) {
	t.Helper()
	w, err := workspace.Load(os.DirFS("../bench/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	w.Files["routes/observations.yaml"] = []byte(strings.Replace(string(w.Files["routes/observations.yaml"]), "format: hl7\n  record: OBX", read, 1))
	w.Files["schemas/observations.json"] = []byte(`{"fields": [{"name": "v", "path": "` + path + `"}]}`)
	w.Files["samples/x"] = []byte(sample)
	_, format, _ := strings.Cut(strings.SplitN(read, "\n", 2)[0], "format: ")
	w.Files["maps/observations-to-rows.map"] = []byte("map observations_to_rows\nsource " + format + " schemas/observations.json\ntarget " + target + " based on samples/x\n\n" + lines + "\n")
	c, findings := Compile(workspace.FromFiles(w.Files), "observations")
	if c == nil {
		return "", []string{findings.Error()}
	}
	o := &output{}
	if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
		t.Fatal(err)
	}
	return o.whole(t), o.wrong
}

const messageIn = "MSH|^~\\&|A||||2026||ORU^R01|1|P|2.5.1||||||%s\rOBX|1|FT|X||%s||||||F\r"

// messageOf is a message with a character set and a value.
func messageOf(charset, value string) string {
	message := strings.NewReplacer("%s||||||F", value+"||||||F", "%s\r", charset+"\r").Replace(messageIn)
	return strings.Replace(message, "|2.5.1||||||\r", "|2.5.1\r", 1)
}

// TestSequencesThatAreNoText: what highlights or formats text in a message does so in the message
// that is made of it, and is shown as it is written wherever else it goes.
func TestSequencesThatAreNoText(t *testing.T) {
	const value = `a\.sp2\b \H\bold\N\ \C2842\x\M248C\ \Zab\ \T\ \E\ \.br\ end`
	for _, separators := range []string{`^~\&`, `^~!&`} {
		in := strings.Replace(messageOf("UNICODE UTF-8", value), `^~\&`, separators, 1)
		if separators != `^~\&` {
			in = strings.ReplaceAll(in, `\`, "!")
		}
		out, wrong := mapped(t, "format: hl7", "OBX-5", in, "hl7", messageOf("UNICODE UTF-8", "x"), "keep MSH, OBX-1, OBX-2, OBX-3, OBX-11\nOBX-5 = v")
		want := messageOf("UNICODE UTF-8", value)
		if separators != `^~\&` { // !E! is an exclamation mark
			want = strings.Replace(want, `\E\`, "!", 1)
		}
		if out != want || len(wrong) > 0 {
			t.Errorf("%q, not\n%q %v", out, want, wrong)
		}
	}
	// Evaluated rather than copied, and with other text around it.
	out, wrong := mapped(t, "format: hl7", "OBX-5", messageOf("UNICODE UTF-8", `\H\bold\N\`), "hl7", messageOf("UNICODE UTF-8", "x"), "keep MSH, OBX-1, OBX-2, OBX-3, OBX-11\nOBX-5 = \"<{v}> \\\\H\\\\\"")
	if !strings.Contains(out, `|<\H\bold\N\> \E\H\E\|`) || len(wrong) > 0 {
		t.Errorf("%q %v", out, wrong)
	}
	out, wrong = mapped(t, "format: hl7", "OBX-5", messageOf("UNICODE UTF-8", `\H\bold\N\`), "json", `{"v": "x"}`, "v = v")
	if out != "{\"v\":\"\\\\H\\\\bold\\\\N\\\\\"}\n" || len(wrong) > 0 {
		t.Errorf("%q %v", out, wrong)
	}
	// What only looks like one is text, whoever writes it.
	for _, v := range []string{`\H\`, "\u001aH\u001a"} {
		want := map[string]string{`\H\`: `\E\H\E\`, "\u001aH\u001a": `\X1A\H\X1A\`}[v]
		json := `{"v": "` + strings.NewReplacer(`\`, `\\`, "\u001a", `\u001a`).Replace(v) + `"}`
		out, wrong = mapped(t, "format: json", "/v", json, "hl7", messageOf("UNICODE UTF-8", "x"), "keep MSH, OBX-1, OBX-2, OBX-3, OBX-11\nOBX-5 = v")
		if !strings.Contains(out, "||"+want+"||") || len(wrong) > 0 {
			t.Errorf("%q: %q %v", v, out, wrong)
		}
	}
	// Control characters would end a segment or a block.
	out, wrong = mapped(t, "format: json", "/v", `{"v": "a\u000bb\u001cc\td\u007f\u0000"}`, "hl7", messageOf("UNICODE UTF-8", "x"), "keep MSH, OBX-1, OBX-2, OBX-3, OBX-11\nOBX-5 = v")
	if !strings.Contains(out, `||a\X0B\b\X1C\c\X09\d\X7F\\X00\||`) || len(wrong) > 0 {
		t.Errorf("%q %v", out, wrong)
	}
}

// TestCharsetOfMessages: messages are written in the character set that their MSH-18 names, byte
// by byte, and what it does not have is rejected.
func TestCharsetOfMessages(t *testing.T) {
	for _, test := range []struct{ charset, value, bytes, wrong string }{
		{"UNICODE UTF-8", "café µ", "caf\xc3\xa9 \xc2\xb5", ""}, {"", "café", "caf\xc3\xa9", ""},
		{"8859/1", "café µ", "caf\xe9 \xb5", ""}, {"8859/15", "5 €", "5 \xa4", ""},
		{"8859/1", "5 €", "", `'€' is not among the characters of 8859/1`}, {"ASCII", "café", "", `'é' is not among the characters of ASCII`}, {"ASCII", "cafe", "cafe", ""},
		{"8859/5", "Привет", "\xbf\xe0\xd8\xd2\xd5\xe2", ""}, {"EBCDIC", "x", "", `the character set "EBCDIC", which is not known`},
	} {
		out, wrong := mapped(t, "format: json", "/v", `{"v": "`+test.value+`"}`, "hl7", messageOf(test.charset, "x"), "keep MSH, OBX-1, OBX-2, OBX-3, OBX-11\nOBX-5 = v")
		if test.wrong == "" {
			if want := messageOf(test.charset, test.bytes); out != want || len(wrong) > 0 {
				t.Errorf("%s %s: %q, not %q %v", test.charset, test.value, out, want, wrong)
			}
		} else if out != "" || !strings.Contains(strings.Join(wrong, "\n"), test.wrong) {
			t.Errorf("%s %s: %q %v", test.charset, test.value, out, wrong)
		}
	}
	// What the sample itself holds goes out in it as well.
	out, wrong := mapped(t, "format: json", "/v", `{"v": "é"}`, "hl7", strings.Replace(messageOf("8859/1", "x"), "|X|", "|caf\xe9|", 1), "keep MSH, OBX-1, OBX-2, OBX-3, OBX-11\nOBX-5 = v")
	if want := strings.Replace(messageOf("8859/1", "\xe9"), "|X|", "|caf\xe9|", 1); out != want || len(wrong) > 0 {
		t.Errorf("%q, not %q %v", out, want, wrong)
	}
	for sample, says := range map[string]string{
		strings.Replace(messageOf("8859/1", "x"), "|X|", "|café|", 1): "it is UTF-8, and its MSH-18 says that it is iso-8859-1",
	} {
		if _, wrong := mapped(t, "format: json", "/v", "{}", "hl7", sample, "keep MSH, OBX\nOBX-5 = v"); !strings.Contains(strings.Join(wrong, "\n"), says) {
			t.Errorf("%q: %v", sample, wrong)
		}
	}
	lines := "keep MSH-3, MSH-7, MSH-9, MSH-10, MSH-11, MSH-12, OBX-1, OBX-2, OBX-3, OBX-11\nMSH-18 = \"8859/1\"\nOBX-5 = v"
	if _, wrong := mapped(t, "format: json", "/v", "{}", "hl7", messageOf("8859/1", "x"), lines); !strings.Contains(strings.Join(wrong, "\n"), "it is the one of the sample") {
		t.Errorf("%v", wrong)
	}
}

// TestDifferencesRejectTheirUnit: what is wrong within a unit or with what belongs to it rejects it
// alone; what is wrong with what units share, or lacks, rejects all; a route may want whole messages.
func TestDifferencesRejectTheirUnit(t *testing.T) {
	const good = "UNB+UNOC:3+A+B+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220+PO1+9'DTM+137:20261125:102'NAD+BY+ST1::92'LIN+1++A1:VP'QTY+21:5:PCE'LIN+2++B2:VP'QTY+21:6:PCE'LIN+3++C3:VP'QTY+21:7:PCE'UNS+S'UNT+12+1'UNZ+1+7'"
	for _, test := range []struct{ old, with, differences, good string }{
		{"", "", "", "1 2 3"}, {"QTY+21:6:PCE", "QTY+21:six:PCE", "", "1 3"}, {"LIN+2++B2:VP", "LIN+2++" + strings.Repeat("B", 40) + ":VP", "", "1 3"}, {"QTY+21:6:PCE", "QTY+21:six:PCE", "  differences: reject messages\n", ""},
		{"BGM+220+PO1", "BGM+220+" + strings.Repeat("P", 40), "", ""}, {"UNS+S", "UNS+LONG", "", ""}, {"QTY+21:6:PCE", "QTY+21:six:PCE", "  differences: warn\n", "1 3"},
		{"QTY+21:6:PCE'", "QTY+21:6:PCE'XYZ+1'", "", "1 3"}, {"QTY+21:5:PCE", "QTY+21:five:PCEPCE", "  except:\n    - rule: standard.length\n      differences: ignore\n", "2 3"},
	} {
		in := strings.Replace(good, test.old, test.with, 1)
		in = strings.Replace(in, "UNT+12", fmt.Sprintf("UNT+%d", 12+strings.Count(in, "'")-strings.Count(good, "'")), 1)
		made, wrong := through(t, "order-lines", in, "routes/order-lines.yaml", "check:\n", "check:\n  description: standard\n"+test.differences)
		var numbers []string
		for _, line := range strings.Split(strings.TrimSpace(made), "\n") {
			var object struct{ No int }
			if line != "" && json.Unmarshal([]byte(line), &object) == nil {
				numbers = append(numbers, fmt.Sprint(object.No))
			}
		}
		if got := strings.Join(numbers, " "); got != test.good || (wrong == "") != (test.with == "") {
			t.Errorf("%+v: %s, %s", test, got, wrong)
		}
	}
}

// TestManyDifferences: a record with more warnings than are told is still rejected by an error
// behind them.
func TestManyDifferences(t *testing.T) {
	long := strings.Repeat("x", 300)
	in := "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|M1|P|2.5.1\rPID|1||T-1||GS\rOBR|1||S|CBC\r" + "OBX|1|ST|K^K||1||||||F|||nonsense\r" + strings.Repeat("NTE|1|"+long+"\r", 60) + "OBX|2|NM|K^K||5||||||F\r"
	lines := "check:\n  description: standard\n  except:\n    - at: NTE\n      differences: warn\n"
	made, wrong := through(t, "observations", strings.Replace(in, "OBX|1|ST", "OBX|1|NM", 1), "routes/observations.yaml", "check:\n", lines)
	if strings.Count(made, "\n") != 2 || !strings.Contains(wrong, "OBX-14: error") {
		t.Errorf("%s%.2000s", made, wrong)
	}
	// The same with the error at the end.
	in = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|M1|P|2.5.1\rPID|1||T-1||GS\rOBR|1||S|CBC\rOBX|1|ST|K^K||1||||||F\r" + strings.Repeat("NTE|1|"+long+"\r", 60) + "NTE|1|L|x|" + strings.Repeat("y", 400) + "\rOBX|2|NM|K^K||5||||||F\r"
	made, wrong = through(t, "observations", in, "routes/observations.yaml", "check:\n", "check:\n  description: standard\n  except:\n    - at: NTE-2\n      differences: warn\n")
	if strings.Count(made, "\n") != 2 || !strings.Contains(wrong, "NTE[61]-4: error") && !strings.Contains(wrong, "NTE-4") {
		t.Errorf("%s%.1000s … %s", made, wrong, wrong[max(0, len(wrong)-300):])
	}
}
