package route

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// TestContinued: a segment that goes on in ADD is not whole, and nothing is made of a part of a value. Only records that take something of it are
// rejected. A message that goes on in another is told of (HL7 v2 chapter 2, 2.10.2).
func TestContinued(t *testing.T) {
	const message = "MSH|^~\\&|LAB|SKERRY|ST|SKERRY|20261130||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1||T-0412||Seal\r%sOBX|1|TX|N||the first part\r%sOBX|2|TX|N||whole||||||F\r"
	const units, rows = "read: {format: hl7, record: OBX}\n", "source hl7\ntarget csv based on samples/o.csv\n"
	one, none := fmt.Sprintf(message, "OBR|1|||CRP\r", "ADD| and the second||||||F\r"), fmt.Sprintf(message, "OBR|1|||CRP\r", "")
	above := fmt.Sprintf(message, "OBR|1|||CR\rADD|P\r", "")
	from := func(head string) string { return strings.Replace(none, "|2.5.1\r", "|2.5.1"+head+"\r", 1) }
	for name, test := range map[string]struct {
		route, lines, in string
		written          string
		rejected         int
		says             string // in findings
	}{
		"a value that is taken": {units, rows + "value = OBX-5\n", one, "value\nwhole\n", 1, "4:1 record 1: error: OBX goes on in the ADD segment that follows it"},
		"none that is":          {units, rows + "value = PID-3\n", one, "value\nT-0412\nT-0412\n", 0, ""},
		"above what is taken":   {units, rows + "value = \"{OBR-4} {OBX-5}\"\n", above, "", 2, "3:1 record 1: error: OBR goes on"},
		"in the message":        {"read: {format: hl7}\n", rows + "value = OBX | join OBX-5\n", one, "", 1, "4:1 record 1: error: OBX goes on"},
		"checked":               {units + "check: {description: standard}\n", rows + "value = OBX-5\n", one, "value\nwhole\n", 1, "4:1 record 1: error: OBX goes on"},
		"checked, and not taken": {units + "check: {description: standard, except: [{rule: standard.required, differences: ignore}]}\n", rows + "value = PID-3\n", one,
			"value\nT-0412\nT-0412\n", 0, ""},
		"changed":               {"read: {format: hl7}\n", "source hl7\ntarget hl7 as it came\nOBX[1]-5 = \"x\"\n", one, "", 1, "OBX goes on in the ADD segment that follows it, and stays"},
		"dropped":               {"read: {format: hl7}\n", "source hl7\ntarget hl7 as it came\ndrop OBX(1=1)\n", one, "", 1, "OBX goes on in the ADD segment that follows it, and stays"},
		"beside what changes":   {"read: {format: hl7}\n", "source hl7\ntarget hl7 as it came\nOBX[2]-5 = \"x\"\n", one, strings.Replace(one, "whole", "x", 1), 0, "4:1 record 1: warning: OBX goes on in the ADD segment that follows it"},
		"the message goes on":   {units, rows + "value = OBX-5\n", none + "DSC|7|F\r", "value\nthe first part\nwhole\n", 0, "6:1 record 1: warning: DSC-1 says that another message goes on"},
		"more answers":          {units, rows + "value = OBX-5\n", none + "DSC|7|I\r", "value\nthe first part\nwhole\n", 0, ""},
		"it goes on with one":   {units, rows + "value = OBX-5\n", from("||7"), "value\nthe first part\nwhole\n", 0, "1:1 record 1: warning: MSH-14 says that this message goes on"},
		"it does not":           {units, rows + "value = OBX-5\n", from("|7||AL|NE|^~^~^~^~&&&"), "value\nthe first part\nwhole\n", 0, ""},
		"the answer to a query": {units, rows + "value = OBX-5\n", none + "DSC|\r", "value\nthe first part\nwhole\n", 0, ""},
	} {
		c, _ := routed(t, name, map[string]string{
			"routes/r.yaml": "route: r\nlisten: {folder: \"{in}\"}\n" + test.route + "map: maps/m.map\ndeliver: {folder: \"{out}\", name: \"{file.name}\"}\nrejected: {folder: \"{bad}\"}\n",
			"maps/m.map":    "map m\n" + test.lines,
			"samples/o.csv": "value\n",
		})
		all, written, wrong := runAll(t, c, 1, test.in)
		wrong = slices.DeleteFunc(wrong, func(f string) bool { return strings.Contains(f, "first-only") })
		if written != test.written || int(all.Files[0].Balance.Rejected) != test.rejected || len(wrong) == 0 != (test.says == "") || !strings.Contains(strings.Join(wrong, "\n"), test.says) {
			t.Errorf("%s: %q, %v, %q", name, written, all.Files[0].Balance, wrong)
		}
	}
}
