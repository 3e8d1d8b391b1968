package route

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ydrion/core/finding"
)

// TestLostZones: a time that has an offset from UTC, and is written as a time of day without one, is told of: by the check where all have one, else once
// of a file, with how many there are and the first. What is brought into a zone, or said to be local, is meant so.
func TestLostZones(t *testing.T) {
	const message = "MSH|^~\\&|LAB|SKERRY|ST|SKERRY|20261130||ORU^R01^ORU_R01|%d|P|2.5.1\rPID|1||T-1\rOBR|1|||CRP|||%s\r"
	for name, test := range map[string]struct {
		line    string
		checked bool // the check warns
		told    bool // of times with an offset
	}{
		"of a standard":         {`value = OBR-7 | date "HL7" | format "yyyy-MM-dd HH:mm" if absent ""`, false, true},
		"shifted":               {`value = OBR-7 | date "HL7" | shift 1 "hours" | format "HH:mm" if absent ""`, false, true},
		"answered":              {`value = (OBR-7 | date "HL7" if absent now) | format "HH:mm"`, false, true},
		"named":                 {"let taken = OBR-7 | date \"HL7\"\nvalue = taken | format \"HHmm\" if absent \"\"", false, true},
		"in a text":             {`value = "at {OBR-7 | date "HL7" | format "HH:mm" if absent "?"}"`, false, true},
		"by condition":          {"value = (OBR-7 | date \"HL7\" | format \"HH:mm\") when OBR-7 is not absent, otherwise \"\"", false, true},
		"as exactly as known":   {`value = OBR-7 | date "HL7" | format "ISO 8601" if absent ""`, false, false},
		"a day":                 {`value = OBR-7 | date "HL7" | format "yyyy-MM-dd" if absent ""`, false, false},
		"in a zone":             {`value = OBR-7 | date "HL7" | zone "Europe/Dublin" | format "HH:mm" if absent ""`, false, false},
		"local":                 {`value = OBR-7 | date "HL7" | local | format "HH:mm" if absent ""`, false, false},
		"now":                   {"ignore OBR-7\nvalue = now | format \"HH:mm\"", false, false},
		"by a pattern":          {`value = OBR-7 | date "yyyyMMddHHmmxx" if unreadable absent | format "HH:mm" if absent ""`, false, true},
		"by a pattern, all":     {`value = OBR-7 | date "yyyyMMddHHmmxx" | format "HH:mm" if absent ""`, true, false},
		"by one without it":     {`value = OBR-7 | date "yyyyMMddHHmm" if unreadable absent | format "HH:mm" if absent ""`, false, false},
		"with its offset":       {`value = OBR-7 | date "yyyyMMddHHmmxx" if unreadable absent | format "HH:mmXXX" if absent ""`, false, false},
		"local, with an offset": {`value = OBR-7 | date "HL7" | local | zone "UTC" | format "HH:mmXXX" if absent ""`, false, false},
	} {
		c, findings := routed(t, name, map[string]string{
			"routes/r.yaml": "route: r\nlisten: {folder: \"{in}\"}\nread: {format: hl7}\nmap: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n",
			"maps/m.map":    "map m\nsource hl7\ntarget csv based on samples/o.csv\n\n" + strings.Replace(test.line, "ignore OBR-7\n", "", 1) + "\n",
			"samples/o.csv": "value\n",
		})
		warned := 0
		for _, f := range findings {
			if f.Code == "map.zone" && f.Severity == finding.Warning {
				warned++
			}
		}
		if warned > 1 || warned == 1 != test.checked || findings.HasErrors() {
			t.Errorf("%s: %v", name, findings)
		}
		for seed := range uint64(4) {
			r := rand.New(rand.NewPCG(seed, 3))
			var in [2]string
			var want []string
			for file := range in {
				with, first := 0, ""
				for i := range []int{3, 700}[seed%2] {
					at := "202607011200"
					if r.IntN(3) == 0 && !strings.Contains(name, "all") || strings.Contains(name, "all") {
						if at += "+0200"; with == 0 {
							first = fmt.Sprintf("%d:1 record", 3*i+1)
						}
						with++
					}
					in[file] += fmt.Sprintf(message, i, at)
				}
				if values := fmt.Sprintf("%d values have", with); with > 0 && test.told {
					if with == 1 {
						values = "a value has"
					}
					want = append(want, first+" warning: "+values+" an offset from UTC")
				}
			}
			for _, cores := range []int{1, 3} {
				all, _, _ := runAll(t, c, cores, in[0], in[1])
				var got []string
				for _, one := range all.Files {
					for _, f := range one.Findings {
						if place, rest, _ := strings.Cut(f.String(), "record "); f.Code == "map.zone" {
							_, rest, _ = strings.Cut(rest, ": ")
							got = append(got, place+"record "+rest)
						}
					}
				}
				same := len(got) == len(want)
				for i := range want {
					same = same && strings.HasPrefix(got[i], want[i])
				}
				if !same {
					t.Errorf("%s, seed %d, %d cores: %q\nnot %q", name, seed, cores, got, want)
				}
			}
		}
	}

	c, findings := routed(t, "a name", map[string]string{
		"routes/r.yaml": "route: r\nlisten: {folder: \"{in}\"}\nread: {format: hl7}\nmap: maps/m.map\ndeliver: {name: '{OBR-7 | date \"HL7\" | format \"HHmm\"}', one file per: record, to: [{folder: \"{out}\", when: '(OBR-7 | date \"HL7\" | format \"HH\") = \"12\"'}]}\nrejected: {folder: \"{bad}\"}\n",
		"maps/m.map":    "map m\nsource hl7\ntarget csv based on samples/o.csv\nvalue = PID-3\n",
		"samples/o.csv": "value\n",
	})
	if all, _, _ := runAll(t, c, 1, fmt.Sprintf(message, 1, "202607011200+0200")); len(findings) > 0 || len(all.Files[0].Findings) > 0 {
		t.Error("in a name", findings, all.Files[0].Findings)
	}
}
