package hl7

import (
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/text"
)

// TestDictionary reads all that is known of every version, and holds it together: each
// structure's segments, each element's type and table.
func TestDictionary(t *testing.T) {
	for _, wrong := range Versions.Check(nil) {
		t.Error(wrong)
	}
	if b, of := DictionaryOf("2.8"); b == nil || of != "2.7.1" {
		t.Error("2.8 is read by", of)
	}
	if b, _ := DictionaryOf("2.9"); b != nil {
		t.Error("2.9 is known")
	}
	for _, version := range Versions.Versions {
		b, _ := DictionaryOf(version)
		for _, name := range []string{"MSH", "PID", "PV1", "OBR", "OBX", "NTE", "MSA"} {
			if s := b.Segment(name); s == nil || len(s.Elements) == 0 {
				t.Errorf("%s knows no %s", version, name)
			}
		}
	}
}

func outline(raw string) string {
	var out []string
	for _, n := range Outline([]byte(raw)) {
		line := strings.Repeat(" ", n.Depth) + n.Path
		if n.Kind == format.Group {
			line += n.Name
		} else {
			line += " <" + raw[n.From:n.To] + ">"
		}
		if n.Kind == format.Leaf {
			line += " " + n.Value + " (" + n.Name + " " + n.Type + " " + n.Means + ")"
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

func TestOutline(t *testing.T) {
	got := outline("MSH|^~\\&|||||||ORU^R01||P|2.3\rPID|||A^^^&1\rOBR|1\rOBX||CE|X||M^Male|~3\rZZZ|z\rOBX||NM|Y||2\rBTS|1\r")
	want := `MSH <MSH|^~\&|||||||ORU^R01||P|2.3>
 MSH-9 <ORU^R01>
  MSH-9.1 <ORU> ORU (Message Type ID )
  MSH-9.2 <R01> R01 (Trigger Event ID )
 MSH-11 <P> P (Processing ID PT )
 MSH-12 <2.3> 2.3 (Version ID ID Release 2.3)
RESPONSE
 PATIENT
  PID <PID|||A^^^&1>
   PID-3 <A^^^&1>
    PID-3.1 <A> A (ID ST )
    PID-3.4 <&1>
     PID-3.4.2 <1> 1 (Universal ID ST )
 ORDER_OBSERVATION
  OBR <OBR|1>
   OBR-1 <1> 1 (Set ID - Observation Request SI )
  OBSERVATION
   OBX <OBX||CE|X||M^Male|~3>
    OBX-2 <CE> CE (Value Type ID Coded Entry)
    OBX-3 <X> X (Observation Identifier CE )
    OBX-5 <M^Male>
     OBX-5.1 <M> M (Identifier ID )
     OBX-5.2 <Male> Male (Text ST )
    OBX-6[2] <3> 3 (Units CE )
   ZZZ <ZZZ|z>
    ZZZ-1 <z> z (  )
  OBSERVATION
   OBX[2] <OBX||NM|Y||2>
    OBX[2]-2 <NM> NM (Value Type ID Numeric)
    OBX[2]-3 <Y> Y (Observation Identifier CE )
    OBX[2]-5 <2> 2 (Observation Value NM )
BTS <BTS|1>
 BTS-1 <1> 1 (Batch Message Count ST )`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// TestValidate: what differs from the standard is told with its place to the byte.
func TestValidate(t *testing.T) {
	const head, pid = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|M1|P|2.5.1\r", "PID|1||T-1||GS^Nell\rOBR|1|O|F|CBC\r"
	for _, test := range []struct{ body, at, want string }{
		{pid + "OBX|1|NM|K||4.5||||||F\r", "", ""},
		{pid + "OBX|1|NM|K||high||||||F\r", "high", "OBX-5 Observation Value is not a value of type NM: a number is digits, with a point and a sign where needed"},
		{pid + "OBX|1|DT|K||20261331||||||F\r", "2026133", "OBX-5 Observation Value is not a value of type DT: there is no month 13"},
		{pid + "OBX|1|NM|K||4||||||Q\r", "Q", "OBX-11 Observation Result Status: \"Q\" is not among the codes of table 0085"},
		{pid + "OBX|1|NM|K||4\r", "\rOBX|1|NM|K||4\r+14", "OBX-11 Observation Result Status is required, and empty"},
		{pid + "OBX|1|CE|K||a^b^c^d^e^f^g||||||F\r", "g|", "OBX-5.7 Observation Value has 6 components of type CE"},
		{pid + "PV1|1|O\r", "PV1", "PV1 should stand before what precedes it in ORU_R01"},
		{pid + "DG1|1\r", "DG1", "DG1 has no place in ORU_R01"},
		{pid + "QQQ|1\r", "QQQ", "QQQ is not a segment of version 2.5.1"},
		{pid + "ZQQ|1\r", "", ""},
		{"PID|1||T-1||GS\r", "PID", "ORDER_OBSERVATION is missing behind PID: ORU_R01 requires it"},
		{"PID|1||||GS\rOBR|1|O|F|CBC\r", "||GS\rOBR|", "PID-3 Patient Identifier List is required, and empty"},
		{"PID|1||T||GS|||MALE\rOBR|1|O|F|CBC\r", "MALE", "PID-8 Administrative Sex has 4 characters, and at most 1 are allowed"},
		{"PID|1~2||T||GS\rOBR|1|O|F|CBC\r", "2||", "PID-1[2] Set ID - PID may come once, not 2 times"},
	} {
		raw := head + test.body
		var got []string
		at := -1
		r := &Reader{bound: &bound{}}
		r.Validate([]byte(raw), func(k format.Difference) {
			if at < 0 {
				at = k.At
			}
			got = append(got, k.Path+" "+k.Text)
		})
		text, plus, _ := strings.Cut(test.at, "+")
		want := strings.Index(raw[len(head):], text) + len(head)
		if plus != "" {
			want += 14
		}
		if test.want == "" && got != nil || test.want != "" && (len(got) == 0 || !strings.Contains(got[0], test.want) || at != want) {
			t.Errorf("%q: %q at %d, want %q at %d", test.body, got, at, test.want, want)
		}
	}
}

// TestDecodedText: text that has been decoded already is not decoded again, whatever MSH-18 says.
func TestDecodedText(t *testing.T) {
	const raw = "MSH|^~\\&|A|B|C|D|20261125||ORU^R01^ORU_R01|M1|P|2.5.1||||||8859/1\rPID|1||T-1||Crèche\r"
	for _, declared := range []bool{false, true} {
		r := &Reader{bound: &bound{}, declared: declared}
		found := ""
		for _, n := range r.Outline([]byte(raw)) {
			if n.Path == "PID-5.1" || n.Path == "PID-5" {
				found = n.Value
			}
		}
		if (found == "Crèche") == declared {
			t.Errorf("declared %v: %q", declared, found)
		}
	}
}

// TestGroups: what belongs to what is said by the groups of the message.
func TestGroups(t *testing.T) {
	file := head + "PID|1||A\rPV1|1|W1\rORC|RE|P1\rOBR|1||S1\rNTE|1||of the order\rOBX|1|NM|W||1\rNTE|1||heavy\rZZZ|z\rSPM|1|blood\rOBX|2|NM|L||2\r" +
		"OBR|2||S2\rOBX|1|NM|W||3\rPID|2||B\rOBR|1||S3\rOBX|1|NM|W||4\r"
	got, _ := read(t, file, "OBX", 100, "PID-3.1", "PV1-2", "ORC-2", "OBR-3", "SPM-2", "OBX-3", "OBX-5", "NTE-3", "ZZZ-1")
	var lines []string
	for _, r := range got {
		lines = append(lines, strings.Join(r.values, " ")+strings.Join(r.found, " "))
	}
	// The second order has no ORC of its own, and the second patient no visit.
	want := []string{"A W1 P1 S1 - W 1 heavy z", "A W1 P1 S1 blood L 2 - -", "A W1 - S2 - W 3 - -", "B - - S3 - W 4 - -"}
	if !slices.Equal(lines, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
}

// TestDifferencesThatAreNone: what partners rightly send is not told, and what they do not is.
func TestDifferencesThatAreNone(t *testing.T) {
	message := func(version, kind, body string) string {
		return "MSH|^~\\&|A|B|C|D|20261124103000||" + kind + "|M1|P|" + version + "\r" + body
	}
	result := func(pid, obx string) string {
		return "PID|1||" + pid + "\rOBR|1||S|CBC^c^L\r" + obx
	}
	const obx, pid = "OBX|1|ST|K^K^L||P||||||F\r", "A^^^H||V^I"
	for _, test := range []struct{ in, want string }{
		{message("2.5.1", "ORU^R01^ORU_R01", result(pid, obx)), ""}, {message("2.5.1", "ORU^R01^ORU_R01", result(pid, "OBX|1|CWE|K^K^L||P^Pos^L||||||F\r")), ""},
		{message("2.3.1", "ORU^R01", result(pid, "OBX|1|ST|K^K^L|1.1|P||||||F\r")), ""}, {message("2.5.1", "RSP^K22^RSP_K22", "MSA|AA|1\rQAK|T1|OK\rQPD|Q22^Find^HL7|T1|@PID.5.1^V\r"), ""},
		{message("2.5.1", "ORU^R01^ORU_R01", result(pid+"||20260230", obx)), "standard.form PID-7"}, {message("2.5.1", "ORU^R01^ORU_R01", result(pid+"||20240229", obx)), ""},
		{message("2.4", "ORU^R01", result(pid+"||2026xx30", obx)), "standard.form PID-7"}, {message("2.3", "ORU^R01", result(pid+"||202611249999", obx)), "standard.form PID-7"},
		{message("2.5.1", "ORU^R01^ORU_R01", result("^^^H||V^I", obx)), "standard.required PID-3.1"}, {message("2.5.1", "ORU^R01^ORU_R01", result("A^^^H^^^^^^^^^^^X||V^I", obx)), "standard.more-parts PID-3.15"},
		{message("", "ORU^R01^ORU_R01", result(pid, obx)), "standard.required MSH-12"},
	} {
		in, err := text.Decode(strings.NewReader(test.in), text.UTF8)
		if err != nil {
			t.Fatal(err)
		}
		r, _, err := format.Open(Source{}, in, nil)
		if r == nil || err != nil {
			t.Fatal(err)
		}
		var got, all []string
		r.(format.Validator).Validate([]byte(test.in), func(d format.Difference) { got = append(got, d.Code+" "+d.Path) })
		b := &batch.Batch{First: 1}
		if _, err := r.Cut(b); err != nil {
			t.Fatal(err)
		}
		r.Split(b)
		r.(format.Validator).ValidateAll(b, func(int) int { return format.AsRead }, func(_ int, d format.Difference) { all = append(all, d.Code+" "+d.Path) })
		if strings.Join(got, ", ") != test.want || strings.Join(all, ", ") != test.want {
			t.Errorf("%q:\n%v %v, not %s", test.in, got, all, test.want)
		}
	}
}
