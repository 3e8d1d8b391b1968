package formats

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding/unicode"

	"ydrion/core/format"
	"ydrion/core/text"
)

const message = "MSH|^~\\&|LABSYS|ST18|SKERRY|SCSR|2025||ORU^R01|M1|P|2.5.1\rPID|1||T-1^^^SCSR||GS\rOBX|1|NM|ALT^ALT||1.5\rOBX|2|NM|K||2\r"

func utf16(t *testing.T, s string) string {
	t.Helper()
	b, err := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().String(s)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestWhatIsKnown: what the user says is not guessed.
func TestWhatIsKnown(t *testing.T) {
	yes, no := true, false
	for _, test := range []struct {
		file    string
		known   format.Known
		records int64
		paths   string
		example string
	}{
		{"a;b\n1;2\n", format.Known{Format: "csv", Delimiter: ','}, 1, "a;b", "1;2"},
		{"a,b\n1,2\n", format.Known{Format: "csv", Heading: &no}, 2, "column_1 column_2", "a"},
		{"1,2\n3,4\n", format.Known{Format: "csv", Heading: &yes}, 1, "1 2", "3"},
		{"caf\xe9\nx\n", format.Known{Charset: "windows-1252"}, 1, "café", "x"},
		{"a\ncaf\xc3\xa9\n", format.Known{Charset: "iso-8859-1"}, 1, "a", "cafÃ©"},
		{"1\n2\n", format.Known{Format: "json"}, 2, "", ""},
	} {
		look, err := Examine(context.Background(), strings.NewReader(test.file), Request{Byte: -1, Records: 1, Known: test.known})
		if err != nil {
			t.Fatal(err)
		}
		var paths []string
		for _, f := range look.Fields {
			paths = append(paths, f.Path)
		}
		if look.Records != test.records || strings.Join(paths, " ") != test.paths || test.example != "" && look.Fields[0].Example != test.example {
			t.Errorf("%q: %d records, %q, %+v", test.file, look.Records, paths, look.Fields)
		}
	}
}

func TestDetect(t *testing.T) {
	isa := "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000001*0*T*>~GS*PO*SKERRY*LABSUPPLY*20261125*0930*1*X*005010~ST*850*0001~"
	named := func(set string) string { return strings.Replace(message, "|2.5.1", "|2.5.1||||||"+set, 1) }
	for _, test := range []struct{ head, want string }{
		{"", "  certain utf-8"},
		{"\x00\x01\x02\x03\x04\x05", " - guessed"},
		{message, "hl7 2.5.1 ORU^R01 certain utf-8"},
		{"\x0b" + message, "hl7 2.5.1 ORU^R01 certain utf-8"},
		{"BHS|^~\\&|A\r" + strings.Replace(message, "2.5.1", "2.3", 1), "hl7 2.3 ORU^R01 certain utf-8"},
		{message + "NTE|1||caf\xe9\r", "hl7 2.5.1 ORU^R01 guessed iso-8859-1"},
		{named("8859/1") + "NTE|1||caf\xe9\r", "hl7 2.5.1 ORU^R01 certain iso-8859-1"},
		{strings.Replace(named("GB 18030-2000"), "LAB", "\x81\x7c", 1) + "NTE|1||\x81\x5e\r", "hl7 2.5.1 ORU^R01 certain gb18030"}, // bytes that would separate before MSH-9
		{strings.Replace(named("ASCII~ISO IR87"), "LAB", "\x1b$B5|\x1b(B", 1), "hl7 2.5.1 ORU^R01 certain iso-2022-jp"},
		{"FHS|^~\\&|A\r" + strings.Replace(named("GB 18030-2000"), "LAB", "\x81\x7c", 1), "hl7 2.5.1 ORU^R01 certain gb18030"},
		{strings.Replace(named("GB 18030-2000"), "LAB", "\x81\x7c", 1) + strings.Repeat("NTE|1||\x81\x5e\r", Head), "hl7 2.5.1 ORU^R01 certain gb18030"},
		{isa, "x12 005010 850 certain utf-8"},
		{"ISA*00*short", "csv"},
		{"UNA:+.? '\nUNB+UNOC:3+A+B+261125:0930+1'UNH+1+ORDERS:D:96A:UN'", "edifact D.96A ORDERS certain utf-8"},
		{"UNB+UNOA:2+A+B+261125:0930+1'UNH+1+INVOIC:D:01B:UN'", "edifact D.01B INVOIC certain utf-8"},
		{" {\"a\": [1,\n2]}", "json - document likely utf-8"},
		{"[{\"a\": 1}]", "json - list likely utf-8"},
		{"{\"a\":1}\n{\"a\":2}\n", "json - lines likely utf-8"},
		{"\x1e{\"a\":1}\n", "json - text sequence certain utf-8"},
		{"\xEF\xBB\xBFa;b;c\n1,5;2;3\n", "csv - - likely utf-8 [delimiter: \";\"]"},
		{"\xFF\xFE" + utf16(t, "a\tb\n1\t2\n"), "csv - - likely utf-16le [delimiter: tab encoding: utf-16le]"},
		{utf16(t, "a,b\n1,2\n"), "csv - - likely utf-16le [encoding: utf-16le]"},
		{"name,size\ncaf\xe9,1\n", "csv - - guessed iso-8859-1 [encoding: iso-8859-1]"},
		{"name,size\n\x80 5,1\n", "csv - - guessed windows-1252 [encoding: windows-1252]"},
		{"Weights of the week\n\nname,size,note\na,1,\"x,y\"\nb,2,\n", "csv - - guessed utf-8 [skip: 1]"},
		{"B-1,17.5,x\nB-2,18,y\n", "csv - - guessed utf-8 [heading: false columns: [column_1, column_2, column_3]]"},
		{"name|size\na|1\n", "csv - - likely utf-8 [delimiter: \"|\"]"},
		{"Weights;;\ntag;kg;note\n00815;1;\n", "csv - - guessed utf-8 [delimiter: \";\" skip: 1]"},
		{"just words\nand more words\n", "csv - - guessed utf-8"},
		{"id,name\n1,Ann,x\n2,Ben,y\n", "csv - - likely utf-8 []"}, // a heading that is too short is not a title
		{"id,name,kg\n", "csv - - guessed utf-8 []"},
		{"id,name\n" + strings.Repeat("1,Zoë\n", 20) + "2,caf\xe9\n", "csv - - guessed utf-8 []"}, // one bad byte makes no Latin-1
		{"id,na\x00me\n1,a\n2,b\n", "csv - - guessed utf-8"},
		{"42\n", "json - value guessed utf-8"},
		{"\"a, b\"", "json - value guessed utf-8"},
		{"null", "json - value guessed utf-8"},
		{"1\n2\n3\n", "csv - - guessed"},
		{"\x1e42\n\x1e43\n", "json - text sequence certain utf-8"},
		{"{\"a\":\"caf\xe9\"}", "json - document guessed iso-8859-1"},
	} {
		g := Detect([]byte(test.head)[:min(len(test.head), Head)], format.Known{})
		dash := func(s string) string {
			if s == "" {
				return "-"
			}
			return s
		}
		got := fmt.Sprintf("%s %s %s %s %s %v", g.Format, dash(g.Version), dash(g.Type), g.Confidence, g.Charset, g.Settings)
		want := strings.Fields(strings.ReplaceAll(test.want, "- ", ""))
		at := strings.ReplaceAll(got, "- ", "")
		for _, w := range want {
			if !strings.Contains(at, w) {
				t.Errorf("%.40q is %s, want %s", test.head, got, test.want)
				break
			}
		}
		if len(g.Reasons) == 0 {
			t.Errorf("%.40q: no reasons", test.head)
		}
	}
}

func examine(t *testing.T, in string, place string) *Look {
	t.Helper()
	request := Request{Byte: -1, Records: 1}
	if place != "" {
		var err error
		if request, err = At(place); err != nil {
			t.Fatal(err)
		}
	}
	request.Name = "sample"
	look, err := Examine(context.Background(), strings.NewReader(in), request)
	if err != nil {
		t.Fatal(err)
	}
	return look
}

// text is what a look says, in short.
func (l *Look) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d records, %d bytes;", l.Records, l.Bytes)
	for _, k := range l.Kinds {
		fmt.Fprintf(&b, " %d %s %s;", k.Count, k.Name, k.Version)
	}
	for _, f := range l.Fields {
		fmt.Fprintf(&b, "\n%s (%s) %d %d %s: %s", f.Path, f.Meaning, f.Filled, f.Empty, f.Looks, f.Example)
	}
	for _, s := range l.Shown {
		fmt.Fprintf(&b, "\nrecord %d, line %d, byte %d:", s.Record, s.Line, s.Offset)
		for _, v := range format.Lines(s.Parts) {
			fmt.Fprintf(&b, " %s=%s", v.Path, v.Value)
		}
	}
	for _, f := range l.Findings {
		fmt.Fprintf(&b, "\n%s", f.String())
	}
	return b.String()
}

func TestExamine(t *testing.T) {
	for _, test := range []struct{ in, place, want string }{
		{"id,when,kg,tag\n1,05/06/2026,17.5,00123\n2,07/08/2026,,2\n3,09/10/2026,1.23457E+12,x\u00a0y\n4,11/12/2026,9\n", "record 2",
			"4 records, 100 bytes; 4 row ;\n" +
				"id () 4 0 integer: 1\nwhen () 4 0 date, dd/MM/yyyy or MM/dd/yyyy (no value decides): 05/06/2026\nkg () 3 1 number with a point, but for 1 value: 17.5\ntag () 3 0 digits with leading zeros, but for 1 value: 00123\n" +
				"record 2, line 3, byte 39: id=2 when=07/08/2026 kg= tag=2\n" +
				"sample:4:1 record 3 kg: warning: the value has been turned into exponent form, and digits may be lost [csv.spreadsheet]\n    format the column as text before saving; further values of this kind in the column are not listed\nsample:4:1 record 3 tag: warning: the value holds a no-break space [csv.spreadsheet]\n    format the column as text before saving; further values of this kind in the column are not listed\nsample:5:1 record 4: error: the row has 3 columns, the heading has 4 [csv.columns-missing]"},
		{message + message, "byte 116", "record 2, line 5, byte 116: MSH-3=LABSYS"},
		{message + message, "115", "OBX-3 (Observation Identifier) 2 0 text: K"},
		{message + message, "byte 150",
			"2 records, 232 bytes; 2 ORU^R01 2.5.1;\nMSH-3 (Sending Application) 2 0 text: LABSYS\n"},
		{message + message, "PID-3",
			"\nOBX-3.1 (Observation Identifier: Identifier) 2 0 text: ALT\nOBX-3.2 (Observation Identifier: Text) 2 0 text: ALT\nOBX-5 (Observation Value) 4 0 number with a point: 1.5\n"},
		{message + message, "PID-3", "\nrecord 1, line 1, byte 0: PID-3.1=T-1 PID-3.4=SCSR"},
		{"UNB+UNOC:3+A+B+261125:0930+1'UNH+1+ORDERS:D:96A:UN'NAD+BY+S1::92'NAD+SU+T1::92'DTM+2:2026'DTM+137:20261125:102'UNT+6+1'UNZ+1+1'", "NAD(SU)-2", "byte 29: NAD[2]-2.1=T1 NAD[2]-2.3=92"},
		{"UNB+UNOC:3+A+B+261125:0930+1'UNH+1+ORDERS:D:96A:UN'NAD+BY+S1::92'DTM+2:2026'DTM+137:20261125:102'UNT+5+1'UNZ+1+1'", "DTM(137)", "byte 29: DTM[2]-1.1=137 DTM[2]-1.2=20261125 DTM[2]-1.3=102"},
		{message + "NTE|1||caf\xe9\r", "NTE-3", "NTE-3=café"},
		{message + "NTE|1||caf\xe9\r", "", "byte E9 here is not ASCII, and MSH-18 does not say"},
		{strings.Replace(message, "2.5.1", "2.2", 1), "", "PID-3.1 (Patient ID: ID Number) 1 0 text: T-1"},
		{strings.Replace(message, "2.5.1", "3.9", 1), "", "PID-3.1 () 1 0 text: T-1"},
		{message, "", "sample:3:1 record 1 OBX: warning: OBR is missing before OBX: ORU_R01 requires it [standard.missing]\nsample:3:22 record 1 OBX-11: warning: Observation Result Status is required, and empty [standard.required]"},
		{`[{"a":1,"b":[{"c":"x"},{"c":""}]},{"a":null,"d/e":{"f":true}}]`, "2", "2 records, 62 bytes; 2 value ;\n/a () 1 1 integer: 1\n/b/*/c () 1 1 text: x\n/d~1e/f () 1 0 true or false: true\nrecord 2, line 1, byte 34: /a=null /d~1e/f=true"},
		{`{"a":1,"a":2}`, "", "json.name-twice"},
		{"UNB+UNOQ:3+A+B+261125:0930+1'UNH+1+ORDERS:D:96A:UN'", "", "0 records, 51 bytes;\nsample:1:1: error: UNB names the repertoire"},
		{"{\"a\":1}\n{\"a\":", "", "2 records"},
		{"BHS|^~\\&\r" + message + "BTS|3\r", "", "BTS says 3 messages, but 1 came"},
		{"id,x\n1,\"a\" b\n2,\"open\n", "", "sample:2:6 record 1: error: text follows the closing quote"},
		{"id,x\n1,\"open\n", "", "csv.quote-unclosed"},
		{message + "NTE|1||a \\Q\\ b\r", "", "sample:5:10 record 1: warning: an escape sequence here has no meaning"},
	} {
		if got := examine(t, test.in, test.place).text(); !strings.Contains(got, test.want) {
			t.Errorf("%.30q at %q:\n%s\nwant\n%s", test.in, test.place, got, test.want)
		}
	}
	for _, place := range []string{"", "record x", "byte -4", "a b c"} {
		if place != "" {
			if _, err := At(place); err == nil || !strings.Contains(err.Error(), place) || !strings.Contains(err.Error(), "such as") {
				t.Errorf("%q was taken for a place: %v", place, err)
			}
		}
	}
}

// TestLostDigits: leading zeros that are gone, and dates that have become numbers, are seen from
// the values around them.
func TestLostDigits(t *testing.T) {
	for _, test := range []struct{ in, want string }{
		{"tag,x\n00123,a\n00124,a\n00777,a\n00999,a\n00001,a\n125,a\n00888,a\n00887,a\n00886,a\n0,a\n",
			"sample:7:1 record 6 tag: warning: 2 values with fewer digits than the others, and no leading zeros: a spreadsheet program may have taken them away [csv.spreadsheet]\n    format the column as text before saving"},
		{"tag,x\n00123,a\n124,a\n7,a\n", ""}, // nothing says which form is the right one
		{"tag,x\n00123,a\n012,a\n7,a\n0077,a\n0076,a\n00075,a\n", ""},
		{"tag,x\n00123,a\n00124,a\n99999,a\n00125,a\n00126,a\n00127,a\n", ""},
		{"when,x\n2026-11-24,a\n2026-11-25,a\n46351,b\n2026-11-27,c\n2026-11-28,c\n",
			"sample:4:1 record 3 when: warning: 1 value in digits among dates: a spreadsheet program has written days since 1899 [csv.spreadsheet]\n    46351 is 2026-11-25 if it counts from 1899-12-30; format the column as dates before saving"},
		{"n,x\n46351,a\n46352,a\n46353,b\n", ""},
	} {
		var got []string
		for _, f := range examine(t, test.in, "").Findings {
			got = append(got, f.String())
		}
		if strings.Join(got, "\n") != test.want {
			t.Errorf("%q:\n%s\nwant\n%s", test.in, strings.Join(got, "\n"), test.want)
		}
	}
}

func pack(t *testing.T, content []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := z.Write(content); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestCompressed(t *testing.T) {
	look := examine(t, string(pack(t, []byte("id,kg\n1,2\n"))), "")
	if look.Compression != "gzip" || look.Records != 1 || look.Format != "csv" {
		t.Errorf("%+v", look)
	}
	bomb := pack(t, bytes.Repeat([]byte("a,b\n"), 4_000_000)) // of 16 MB, some 1,000 to 1
	nested := pack(t, bytes.Repeat([]byte{0}, 64_000_000))
	for name, b := range map[string][]byte{"lines": bomb, "zeros": nested} {
		in, _, err := text.Undo(bytes.NewReader(b))
		if err != nil {
			t.Fatal(err)
		}
		n, err := io.Copy(io.Discard, in)
		t.Logf("%s: %d bytes of %d, %v", name, n, len(b), err)
		if err != nil && !errors.Is(err, text.ErrBomb) {
			t.Error(err)
		}
	}
	over := text.Bounded(bytes.NewReader(make([]byte, 4<<20)), 10)
	if _, err := io.Copy(io.Discard, over); !errors.Is(err, text.ErrBomb) {
		t.Errorf("10 bytes may hold 4 MB: %v", err)
	}
}

// TestArchiveInAStream: of a zip archive that comes as a stream nothing is guessed.
func TestArchiveInAStream(t *testing.T) {
	if _, err := Examine(context.Background(), strings.NewReader("PK\x03\x04rest"), Request{}); err == nil || !strings.Contains(err.Error(), "comes as a stream") {
		t.Errorf("a zip archive in a stream: %v", err)
	}
}

func FuzzExamine(f *testing.F) {
	f.Add([]byte(message))
	f.Add([]byte("a,b\n1,\"x\"\n"))
	f.Add([]byte(`[{"a":{"b":["x"]}}]`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, err := Examine(context.Background(), bytes.NewReader(b), Request{Byte: -1, Records: 3}); err != nil && !strings.Contains(err.Error(), "zip") {
			t.Fatal(err)
		}
	})
}

// TestBrokenAndOther: an interchange or a message that does not begin as one must is not called
// CSV, and what no route reads is named.
func TestBrokenAndOther(t *testing.T) {
	const (
		isa = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000001*0*T*>~"
		x   = isa + "GS*PO*S*H*20261125*0930*3*X*005010~ST*850*0001~BEG*00*SA*P1**20261125~SE*3*0001~GE*1*3~IEA*1*000000001~"
		edi = "UNB+UNOC:3+A+B+261125:0930+7'UNH+1+ORDERS:D:96A:UN'BGM+220'UNT+3+1'UNZ+1+7'"
		msg = "MSH|^~\\&|A||||2026||ORU^R01|1|P|2.5.1\rOBX|1|ST|X||v||||||F\r"
	)
	for _, test := range []struct{ in, format, kind, says, code string }{
		{x, "x12", "850", "", ""}, {x[:60], "x12", "", "does not begin|not as one must", "x12.interchange"}, {strings.Replace(x, "SKERRY         ", "SKERRY", 1), "x12", "", "character 51", "x12.interchange"},
		{"hello\r\n" + x, "x12", "", "begins at byte 7", "x12.interchange"}, {"From: us\n\n" + edi, "edifact", "", "begins at byte 10", "edifact.interchange"},
		{"x\nUNA:+.? '" + edi, "edifact", "", "begins at byte 2", "edifact.interchange"}, {"hello\r" + msg, "hl7", "", "begins at byte 6", "hl7.no-message"},
		{"ISA,ISB,GS\n1,2,3\n", "csv", "", "", ""}, {"note\nsee UNB+UNOC:3 there\n", "csv", "", "", ""}, {"a|b\nMSH|1\n", "csv", "", "", ""},
		{"%PDF-1.4\n%\xe2\xe3\n", "", "a PDF document", "first bytes", ""}, {"\x89PNG\r\n\x1a\n\x00", "", "a PNG picture", "first bytes", ""}, {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1\x00", "", "an office document of the older kind (.xls, .doc, .ppt, .msg)", "", ""},
		{"<?xml version=\"1.0\"?><a/>", "", "XML", "", ""}, {"\xef\xbb\xbf\n<orders><o/></orders>", "", "XML", "", ""}, {"<!DOCTYPE html>\n<html>", "", "a web page (HTML)", "", ""}, {"{\\rtf1 x}", "", "a document in RTF", "", ""},
		{"<5,6\n1,2\n", "csv", "", "", ""}, {strings.Repeat("a\x00", 300)[:257] + "ustar\x0000", "", "a tar archive", "", ""},
	} {
		look, err := Examine(t.Context(), strings.NewReader(test.in), Request{Records: 1, Byte: -1})
		if err != nil {
			t.Fatal(err)
		}
		reasons := strings.Join(look.Reasons, "; ")
		says := strings.Split(test.says, "|")
		found := slices.ContainsFunc(says, func(s string) bool { return strings.Contains(reasons, s) })
		if look.Format != test.format || (test.format == "" || test.kind != "") && look.Type != test.kind || !found || test.code != "" && (len(look.Findings) == 0 || look.Findings[0].Code != test.code) || test.code == "" && look.Errors > 0 {
			t.Errorf("%.40q: %q %q, %s, %v", test.in, look.Format, look.Type, reasons, look.Findings)
		}
	}
}
