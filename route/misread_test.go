package route

import (
	"fmt"
	"strings"
	"testing"
)

// TestMisread: what a route, MSH-18 or UNB-1 says of the character set, and is UTF-8 all the same, is told once of a file, with the place and the word
// where that shows first. What is of its set, or says that it is UTF-8, is not.
func TestMisread(t *testing.T) {
	const hl7 = "MSH|^~\\&|LAB|SKERRY|ST|SKERRY|20261130||ORU^R01^ORU_R01|%d|P|2.5.1||||||%s\rPID|1||T-%d||%s\rOBR|1|||CRP\r"
	const edifact, ends = "UNH+%d+ORDERS:D:96A:UN'BGM+220+%d+9'FTX+AAI+++%s'UNT+4+%d'", "UNZ+%d+7'"
	messages := func(set string, names ...string) (all string) {
		for i, n := range names {
			all += fmt.Sprintf(hl7, i, set, i, n)
		}
		return all
	}
	orders := func(level string, names ...string) string {
		all := "UNB+" + level + ":3+A+B+261124:1630+7'"
		for i, n := range names {
			all += fmt.Sprintf(edifact, i, i, n, i)
		}
		return all + fmt.Sprintf(ends, len(names))
	}
	const rows, byName = "source csv schemas/s.json\n", "check: {schema: schemas/s.json}\n"
	many := strings.Repeat("Seal\n", 60_000)
	for name, test := range map[string]struct{ read, lines, in, says string }{
		"csv":                    {"read: {format: csv, encoding: windows-1252}\n" + byName, rows + "name = name\n", "name\nSeal\nÅse Sülwald\n", `3:1: warning: the route says windows-1252, and all that is beyond ASCII is UTF-8: "Ã…se" is read, where "Åse" seems to be meant`},
		"csv, late":              {"read: {format: csv, encoding: iso-8859-1}\n" + byName, rows + "name = name\n", "name\n" + many + "tag Ägir\n", `60002:5: warning: the route says iso-8859-1`},
		"csv, sorted":            {"read: {format: csv, encoding: iso-8859-1}\n" + byName + "shape: [{sort: [name]}]\n", rows + "name = name\n", "name\nSeal\nØrn\n", `3:1: warning: the route says iso-8859-1`},
		"csv of its set":         {"read: {format: csv, encoding: windows-1252}\n" + byName, rows + "name = name\n", "name\nS\xfclwald\n", ""},
		"csv of both":            {"read: {format: csv, encoding: windows-1252}\n" + byName, rows + "name = name\n", "name\nÅse\nS\xfclwald\n", ""},
		"json":                   {"read: {format: json, encoding: iso-8859-1}\n" + byName, "source json schemas/s.json\nname = name\n", `{"name": "Åse"}`, `1:11: warning: the route says iso-8859-1`},
		"hl7":                    {"read: {format: hl7}\n", "source hl7\nname = PID-5\n", messages("8859/1", "Seal", "Åse", "Sülwald"), `5:13: warning: MSH-18 says iso-8859-1 in 2 messages, and all`},
		"hl7 of units":           {"read: {format: hl7, record: OBR}\n", "source hl7\nname = PID-5\n", messages("8859/1", "Åse"), `2:13: warning: MSH-18 says iso-8859-1 in a message, and all`},
		"hl7 that says it":       {"read: {format: hl7}\n", "source hl7\nname = PID-5\n", messages("UNICODE UTF-8", "Åse", "Sülwald"), ""},
		"hl7 of its set":         {"read: {format: hl7}\n", "source hl7\nname = PID-5\n", messages("8859/1", "\xc5se", "S\xfclwald"), ""},
		"hl7 by the route":       {"read: {format: hl7, encoding: iso-8859-1}\n", "source hl7\nname = PID-5\n", messages("", "Åse"), `2:13: warning: the route says iso-8859-1`},
		"edifact":                {"read: {format: edifact}\n", "source edifact\nname = FTX-4\n", orders("UNOC", "Seal", "Sülwald"), `1:132: warning: UNB-1 says iso-8859-1 in a message, and all`},
		"edifact of units":       {"read: {format: edifact, record: FTX}\n", "source edifact\nname = FTX-4\n", orders("UNOC", "Sülwald"), `UNB-1 says iso-8859-1 in a message, and all`},
		"edifact that says it":   {"read: {format: edifact}\n", "source edifact\nname = FTX-4\n", orders("UNOW", "Sülwald"), ""},
		"edifact of its set":     {"read: {format: edifact}\n", "source edifact\nname = FTX-4\n", orders("UNOC", "S\xfclwald"), ""},
		"edifact without any":    {"read: {format: edifact}\n", "source edifact\nname = FTX-4\n", orders("UNOC", "Seal"), ""},
		"hl7 of ASCII and a set": {"read: {format: hl7}\n", "source hl7\nname = PID-5\n", messages("8859/1", "Seal", `\XC385\`), ""},
	} {
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml":  "route: r\nlisten: {folder: \"{in}\"}\n" + test.read + "map: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n",
			"maps/m.map":     "map m\n" + strings.Replace(test.lines, "\n", "\ntarget csv based on samples/o.csv\n", 1),
			"samples/o.csv":  "name\n",
			"schemas/s.json": `{"fields": [{"name": "name"}]}`,
		})
		for _, cores := range []int{1, 3} {
			_, _, wrong := runAll(t, c, cores, test.in)
			if len(wrong) > 1 || len(wrong) == 0 != (test.says == "") || !strings.Contains(strings.Join(wrong, ""), test.says) {
				t.Errorf("%s, %d cores: %q", name, cores, wrong)
			}
		}
	}
}
