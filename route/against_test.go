package route

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/workspace"
)

// partner is a description of orders in our own format.
func partner(structure string) string {
	out := "structure ORDERS D.96A Order\n" + structure + "\n\ntype C1 D.96A Several\nO an(99) One\nO an(99) Two\nO an(99) Three\nO an(99) Four\n\n"
	for _, s := range []string{"UNH an(14)", "BGM an(9)", "LIN n(6)", "QTY C1", "FTX an(9)", "UNT n(6)"} {
		name, kind, _ := strings.Cut(s, " ")
		out += "segment " + name + " D.96A " + name + "\nR " + kind + " First\nO C1 More\nO C1 More\nO C1 More\n\n"
	}
	return out
}

// TestAgainstOneOfSeveral: each message is checked against the description that is chosen for it, by its type and its
// sender, and one for which none is chosen is rejected.
func TestAgainstOneOfSeveral(t *testing.T) {
	number := 0
	message := func(kind, segments string) string {
		number++
		return fmt.Sprintf("UNH+%d+%s:D:96A:UN'BGM+220+M%d'%sUNT+%d+%d'", number, kind, number, segments, 3+strings.Count(segments, "'"), number)
	}
	interchange := func(sender string, messages ...string) string {
		return "UNB+UNOC:3+" + sender + "+SKERRY+261125:0930+IC" + sender + "'" + strings.Join(messages, "") + fmt.Sprintf("UNZ+%d+IC%s'", len(messages), sender)
	}
	const with, without = "LIN+1++A:SA'QTY+21:5'", "LIN+1++A:SA'"
	in := interchange("HOLM", message("ORDERS", with), message("ORDERS", without), message("DESADV", "XYZ+1'")) +
		interchange("TIDE", message("ORDERS", with), message("ORDERS", without+"FTX+AAI'"), message("ORDERS", without)) +
		interchange("HOLM", message("ORDERS", with), message("INVOIC", "XYZ+1'"))
	files := map[string]string{"descriptions/holm.txt": partner("UNH BGM SG1*(LIN QTY) UNT"), "descriptions/tide.txt": partner("UNH BGM SG1*(LIN FTX?) UNT")}
	const two = "  - { when: UNH-2.1 = \"ORDERS\" and UNB-2 = \"HOLM\", description: descriptions/holm.txt }\n  - { when: UNH-2.1 = \"ORDERS\" and UNB-2 = \"TIDE\", description: descriptions/tide.txt }\n"
	const none = "  - { when: UNH-2.1 = \"DESADV\", description: none }\n"
	for _, test := range []struct {
		check, record string
		good          string   // the numbers of messages
		wrong         []string // pieces of what is said, in its order
	}{
		{two + none, "", "1 3 5 6 7", []string{"record 2 UNT: error: QTY is missing", "record 4 QTY: error: QTY has no place", "record 8: error: none of the conditions"}},
		// The order is that of the list.
		{none + two + "  - { when: otherwise, description: standard, differences: warn }\n", "", "1 3 5 6 7 8", []string{"QTY is missing", "QTY has no place", "record 8 XYZ: warning: XYZ has no place", "DTM, UNS, SG48 is missing"}},
		{two + none + "  - description: standard\n    except: [ { at: XYZ, differences: ignore }, { rule: standard.missing, differences: ignore } ]\n", "", "1 3 5 6 7 8", []string{"QTY is missing", "QTY has no place"}},
		// The first that holds counts, for each its own way.
		{"  - { when: UNB-2 = \"TIDE\", description: descriptions/tide.txt, differences: warn }\n" + none + "  - { description: descriptions/holm.txt }\n", "", "1 3 4 5 6 7", []string{"QTY is missing", "QTY: warning: QTY has no place", "INVOIC of D.96A, which nothing describes"}},
		// Records within messages: the message's first one is asked. Those of messages without any are none.
		{two, "LIN", "1 5 6 7", []string{"record 2 UNT: error: QTY is missing", "record 3: error: the message has none of the segments", "record 4 QTY: error: QTY has no place", "record 8: error: the message has none"}},
		{"  - { when: LIN-3.1 = \"A\", description: descriptions/holm.txt }\n", "LIN", "1 4 7", []string{"QTY is missing", "none of the segments", "FTX has no place", "QTY is missing", "QTY is missing", "none of the segments"}},
		// What cannot be told is not passed over.
		{"  - { when: (UNB-2 | number) = 7, description: standard }\n  - { when: otherwise, description: none }\n", "", "", slices.Repeat([]string{"what the message is to be checked against cannot be told"}, 8)},
		{"  - { when: UNB-2 = \"HOLM\" }\n", "", "", []string{"check[1].description is missing"}},
		{"  - { description: standard }\n" + two, "", "", []string{"would never be used"}},
		{"  - { when: UNB-22 = \"HOLM\", description: standard }\n  - { when: UNHH-2 = \"A\", description: standard }\n", "", "", []string{"UNHH"}},
		{"  - { when: UNB-2 = \"HOLM\", description: descriptions/hol.txt }\n", "", "", []string{"there is no file descriptions/hol.txt"}},
		{"  - { when: UNB-2 = \"HOLM\", description: standard, tolerate: 5% }\n", "", "", []string{"say them in an item without `when`"}},
		{"  - { tolerate: 5% }\n  - { tolerate: 6% }\n" + two, "", "", []string{"are said in one item"}},
		{"  - { tolerate: 5% }\n" + two + none, "", "1 3 5 6 7", []string{"QTY is missing", "QTY has no place", "none of the conditions"}},
		{"  - { when: UNB-2 = \"HOLM\", description: none, differences: warn }\n", "", "", []string{"nothing can differ"}},
		{"  - { description: none }\n", "", "", []string{"checked against nothing where no description is named"}},
	} {
		read := "read: { format: edifact }\n"
		if test.record != "" {
			read = "read: { format: edifact, record: " + test.record + " }\n"
		}
		all := map[string][]byte{
			"routes/r.yaml": []byte("route: r\nlisten: { folder: \"{in}\" }\n" + read + "check:\n" + test.check + "map: maps/m.map\ndeliver: { name: \"{file.name}\", folder: \"{out}\" }\nrejected: { folder: \"{bad}\" }\n"),
			"maps/m.map":    []byte("map m\nsource edifact\ntarget csv based on samples/m.csv\nn = UNH-1\n"),
			"samples/m.csv": []byte("n\n1\n"),
		}
		for name, text := range files {
			all[name] = []byte(text)
		}
		w := workspace.FromFiles(all)
		said, o := w.Findings.Error(), &output{}
		if _, is := w.Routes["r"]; is {
			c, findings := Compile(w, "r")
			said = findings.Error()
			if c != nil {
				if _, err := c.Plan.Run(context.Background(), strings.NewReader(in), flow.Inputs{}, o); err != nil {
					t.Fatal(err)
				}
				good := ""
				if rows := strings.Fields(o.whole(t)); len(rows) > 0 {
					good = strings.Join(rows[1:], " ")
				}
				if good != test.good {
					t.Errorf("%s%s: good are %s, want %s\n%s", test.record, test.check, good, test.good, strings.Join(o.wrong, "\n"))
				}
			}
		}
		lines := o.wrong
		if said != "" && len(lines) == 0 {
			lines = strings.Split(strings.TrimSpace(said), "\n")
		}
		if len(lines) < len(test.wrong) || len(o.wrong) > len(test.wrong) {
			t.Errorf("%s:\n%s", test.check, strings.Join(lines, "\n"))
			continue
		}
		for i, want := range test.wrong {
			if !strings.Contains(lines[i], want) {
				t.Errorf("%s: %q does not say %q", test.check, lines[i], want)
			}
		}
	}
}
