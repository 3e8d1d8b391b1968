package hl7

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// record is what a reader gave for one record.
type record struct {
	values []string // "-" if absent, "null" if null
	raw    string
	at     int64 // offset in the file
	found  []string
}

// read reads a file in batches of a size and gives its records and what was
// wrong with it as a whole.
func read(t testing.TB, file string, unit string, size int, paths ...string) ([]record, []string) {
	t.Helper()
	in, err := text.Decode(strings.NewReader(file), text.Declared)
	if err != nil {
		t.Fatal(err)
	}
	opened, findings, err := format.Open(Source{Unit: unit}, in, shape.Of(paths...))
	if err != nil {
		t.Fatal(err)
	}
	if opened == nil {
		return nil, said(findings)
	}
	r := opened.(*Reader)
	r.Size = size
	var out []record
	b := &batch.Batch{First: 1}
	for more := true; more; {
		b.Reset()
		var err error
		more, err = r.Cut(b)
		var broken *format.Broken
		if err != nil && !errors.As(err, &broken) {
			t.Fatal(err)
		}
		r.Split(b)
		for i := range b.Records() {
			rec := record{raw: string(r.Raw(b, i)), at: b.Base + int64(b.Bounds[i].Off)}
			for slot := range paths {
				v, ok := b.Value(i, slot)
				switch {
				case b.Spans[i*b.Slots+slot] == batch.Null:
					v = []byte("null")
				case !ok:
					v = []byte("-")
				}
				rec.values = append(rec.values, string(v))
			}
			for _, n := range b.Notes {
				if int(n.Record) == i {
					f := r.Describe(b, n)
					rec.found = append(rec.found, fmt.Sprintf("%s %s at %d:%d +%d %s", f.Severity, f.Code, f.Place.Line, f.Place.Column, f.Place.Offset, f.Place.Path))
				}
			}
			out = append(out, rec)
		}
		b.First += int64(b.Records())
		if err != nil {
			return out, said(finding.List{broken.Finding})
		}
	}
	return out, said(r.Finish(0))
}

func said(list finding.List) (out []string) {
	for _, f := range []finding.Finding(list) {
		out = append(out, fmt.Sprintf("%s at %d:%d +%d: %s", f.Code, f.Place.Line, f.Place.Column, f.Place.Offset, f.Message))
	}
	return out
}

const head = "MSH|^~\\&|LABSYS|ST18|SKERRY|SCSR|20250815211500||ORU^R01^ORU_R01|M1|P|2.5.1||||||UNICODE UTF-8\r"

func TestReader(t *testing.T) {
	message := head + "PID|1||T-VV^^^SCSR~X-9^^^OLD||GS&grey^T\\T\\E||\"\"|U\rOBX|1|TX|N||caf\xc3\xa9 \\.br\\ two\rOBX|2|NM|W||9.5|kg\r"
	for _, ends := range []string{"\r", "\n", "\r\n"} {
		m := strings.ReplaceAll(message, "\r", ends)
		for name, file := range map[string]string{"one after the other": m + m + m, "blank lines": m + "\n" + m + "\n\n" + m, "framed": "\x0b" + m + "\x1c\r\x0b" + m + "\x1c\r\x0b" + m + "\x1c\r", "no last end": m + m + strings.TrimSuffix(m, ends)} {
			for size := range 3 {
				got, wrong := read(t, file, "", 100<<(size*2), "MSH-1", "MSH-2", "MSH-3", "MSH-10", "PID-3[1].1", "PID-3[2].4", "PID-5", "PID-5.1.2", "PID-5.2", "PID-7", "PID-6", "OBX-5", "OBX[2]-5", "OBX[3]-5", "ZZZ-1")
				if len(wrong) > 0 || len(got) != 3 {
					t.Fatalf("%q, %s, size %d: %d records, %v", ends, name, size, len(got), wrong)
				}
				for _, r := range got {
					want := []string{"|", `^~\&`, "LABSYS", "M1", "T-VV", "OLD", "GS", "grey", "T&E", "null", "-", "café \n two", "9.5", "-", "-"}
					if !slices.Equal(r.values, want) || r.found != nil {
						t.Errorf("%q, %s, size %d: %q\n  %v", ends, name, size, r.values, r.found)
					}
				}
			}
		}
	}
}

// TestUnits: a segment can be the record, with what stands around it.
func TestUnits(t *testing.T) {
	file := head + "PID|1||A\rOBR|1||S1\rNTE|1||of the order\rOBX|1|NM|W||1\rNTE|1||heavy\rOBX|2|NM|L||2\r" +
		"OBR|2||S2\rOBX|1|NM|W||3\rPID|2||B\rOBX|1|NM|W||4\r" + strings.Replace(head, "|M1|", "|M2|", 1) + "PID|1||C\r"
	got, _ := read(t, file, "OBX", 100, "MSH-10", "PID-3.1", "OBR-3", "OBX-3", "OBX-5", "NTE-3")
	var lines []string
	for _, r := range got {
		lines = append(lines, strings.Join(r.values, " ")+strings.Join(r.found, " "))
	}
	want := []string{"M1 A S1 W 1 heavy", "M1 A S1 L 2 -", "M1 A S2 W 3 -", "M1 B - W 4 -", "M2 C - - - -error hl7.no-unit at 12:1 +" + fmt.Sprint(len(head)+strings.LastIndex(file[len(head):], "MSH")) + " "}
	if !slices.Equal(lines, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	if raw := got[1].raw; strings.Count(raw, "OBX|") != 1 || !strings.Contains(raw, "OBX|2|NM|L||2\r") || !strings.HasPrefix(raw, head+"PID|1||A\rOBR|1||S1\r") {
		t.Errorf("the second unit alone is %q", raw)
	}
}

// TestCharset: MSH-18 is believed, message by message, and checked against what is
// there.
func TestCharset(t *testing.T) {
	with := func(set, value string) string {
		return strings.Replace(head, "UNICODE UTF-8", set, 1) + "PID|1||" + value + "\r"
	}
	plain := len(head) - len("UNICODE UTF-8")
	for _, test := range []struct{ set, value, want, found string }{
		{"", "plain", "plain", ""},
		{"8859/1", "caf\xe9", "café", ""},
		{"8859/15~UNICODE UTF-8", "\xa4", "€", ""},
		{"8859/5", "\xd4", "д", ""},
		{"UNICODE UTF-8", "caf\xe9", "caf\xe9", fmt.Sprintf("error text.encoding at 2:11 +%d ", plain+len("UNICODE UTF-8")+10)},
		{"", "caf\xe9", "caf\xe9", fmt.Sprintf("error hl7.charset at 2:11 +%d ", plain+10)},
		{"ASCII", "café", "café", fmt.Sprintf("error hl7.charset at 2:11 +%d ", plain+5+10)},
		{"CNS 11643-1992", "caf\xe9", "caf\xe9", fmt.Sprintf("error hl7.charset at 2:11 +%d ", plain+14+10)},
		// Characters whose second byte is a separator: | ^ \\ of the message.
		{"GB 18030-2000", "\x81\x7c\x81\x5e^x", "亅乛", ""},
		{"BIG-5", "\xa5\x5c\xb3\x5c", "功許", ""},
		{"KS X 1001", "\xb0\xa1^x", "가", ""},
		{"ISO IR14", "\xb1\xb2", "ｱｲ", ""},
		{"~ISO IR87", "\x1b$B;3ED\x1b(B^\x1b$BB@O:\x1b(B", "山田", ""},
		{"ASCII~ISO IR87", "\x1b$B!|\x1b(B&a", "●", ""},
		{"BIG-5", "\xff", "-", fmt.Sprintf("error text.encoding at 2:8 +%d PID-3", plain+5+7)},
		{"8859/7", "\xff", "-", fmt.Sprintf("error text.encoding at 2:8 +%d PID-3", plain+6+7)},
	} {
		got, _ := read(t, with(test.set, test.value), "", 100, "PID-3")
		if len(got) != 1 || got[0].values[0] != test.want || strings.Join(got[0].found, " ") != test.found {
			t.Errorf("%q %q: %q, %q", test.set, test.value, got[0].values, got[0].found)
		}
	}
}

// TestSetsBeforeTheyAreNamed: characters that hold what looks like a separator may stand before MSH-18, which names their set, and what chooses a value
// is compared as it reads, not as it is written.
func TestSetsBeforeTheyAreNamed(t *testing.T) {
	for _, test := range []struct{ set, sender, rest, path, want, found string }{
		{"ASCII~ISO IR87", "\x1b$B5|\x1b(B", "PID|1||\x1b$B5|\x1b(B^x\r", "PID-3.2", "x", ""},
		{"GB 18030-2000", "\x81\x7c", "PID|1||\x81\x7c^x\r", "PID-3.2", "x", ""},
		{"BIG-5", "\xa5\x5c\xa4\x7c", "PID|1||\xa4\x7c^x\r", "PID-3.2", "x", ""},
		{"", "\x1b$B5|\x1b(B", "PID|1||A\r", "PID-3", "A", "error hl7.charset at 1:10 +9 "},
		{"", "A", "PID|1||\x1b$B5|\x1b(B\r", "PID-3", "\x1b$B5", "error hl7.charset at 2:8 +66 "},
		{"", "A", "PID|1||\x1b[1mA\r", "PID-3", "\x1b[1mA", ""}, // for a printer
		{"8859/1", "A", "OBX|1|ST|GR\xd6SSE^Gr\xf6\xdfe||7\r", "OBX(3=GRÖSSE)-5", "7", ""},
		{"", "A", "OBX|1|ST|A\\T\\B||7\r", "OBX(3=A&B)-5", "7", ""},
		{"GB 18030-2000", "A", "OBX|1|ST|\x81\x7c||7\r", "OBX(3=亅)-5", "7", ""},
		{"ASCII~ISO IR87", "A", "OBX|1|ST|\x1b$B5|\x1b(B||7\r", "OBX(3=亨)-5", "7", ""},
		{"8859/1", "A", "PID|1||1^^^^M\xdc~2^^^^MR\r", "PID-3[5=MÜ].1", "1", ""},
		{"GB 18030-2000", "A", "PID|1||1^^^\x81\x5e^MR~2^^^^\x81\x5e\r", "PID-3[5=乛].1", "2", ""},
	} {
		file := "MSH|^~\\&|" + test.sender + "|B|C|D|20261130||ORU^R01^ORU_R01|1|P|2.5.1||||||" + test.set + "\r" + test.rest
		got, _ := read(t, file, "", 100, test.path)
		if len(got) != 1 || got[0].values[0] != test.want || strings.Join(got[0].found, " ") != test.found {
			t.Errorf("%q: %q, %q", file, got[0].values, got[0].found)
		}
	}
}

func TestBrokenMessages(t *testing.T) {
	for _, test := range []struct{ file, want string }{
		{"", "file.empty"}, {"\r\n \r\n", "file.empty"},
		{"ISA*00*", "hl7.no-message at 1:1 +0"},
		{"\r\nPID|1\r", "hl7.no-message at 2:1 +2"},
		{"MSH|^~\\&|A\rPID|1\rpid|2\rP|3\r", "error hl7.segment at 3:1 +17 |error hl7.segment at 4:1 +23 "},
		{"MSH|^~^&|A\rPID|1\r", "error hl7.separators at 1:1 +0 "},
		{"MSH|^ \\&|A\rPID|1||a b\r", "error hl7.separators at 1:1 +0 "},
		{"MSH|^~\\ |A\rPID|1||a b\r", "error hl7.separators at 1:1 +0 "},
		{"MSH|^~\\& |A\rPID|1||a b\r", ""},
		{"MSHB|^~\\&|A\rPID|1\rMSH|^~\\&|A\rPID|1\r", "hl7.no-message at 1:1 +0"},
		{"FHSX|^~\\&|A\rMSH|^~\\&|A\rPID|1\r", "hl7.no-message at 1:1 +0"},
		{"MSH|^~\\&#&|A\rPID|1\r", "error hl7.separators at 1:1 +0 "},
		{"MSH|^~\\&|A\rPID|1||x\\Q\\y\r", "warning hl7.escape at 2:8 +18 PID-3"},
		{"MSH|^~\\&#|A\rPID|1||x\\P\\y\r", ""},
		{"MSH", "error hl7.separators at 1:1 +0 "},
	} {
		got, wrong := read(t, test.file, "", 100, "PID-3")
		var found []string
		for _, r := range got {
			found = append(found, r.found...)
		}
		if all := strings.Join(append(found, wrong...), "|"); !strings.HasPrefix(all, test.want) || test.want == "" && all != "" {
			t.Errorf("%q: %q, want %q", test.file, all, test.want)
		}
	}
}

// TestCounts: what BTS and FTS say is compared.
func TestCounts(t *testing.T) {
	m := head + "PID|1||A\r"
	for _, test := range []struct{ file, want string }{
		{"FHS|^~\\&\rBHS|^~\\&\r" + m + m + "BTS|2\rBHS|^~\\&\r" + m + "BTS|1\rFTS|2\r", ""},
		{"BHS|^~\\&\r" + m + "BTS|\r", ""},
		{"BHS|^~\\&\r" + m + m + "BTS|3\r", "BTS says 3 messages, but 2 came"},
		{"FHS|^~\\&\rBHS|^~\\&\r" + m + "BTS|1\rFTS|2\r", "FTS says 2 batches, but 1 came"},
		{"FHS|^~\\&\rBHS|^~\\&\r" + m, "the file ends without BTS"},
		{"FHS|^~\\&\r" + m, "the file ends without FTS"},
	} {
		for _, size := range []int{50, 500} {
			got, wrong := read(t, test.file, "", size, "PID-3")
			if all := strings.Join(wrong, " "); !strings.Contains(all, test.want) || test.want == "" && all != "" || len(got) != strings.Count(test.file, "MSH") {
				t.Errorf("%q, size %d: %d messages, %q, want %q", test.file, size, len(got), wrong, test.want)
			}
		}
	}
}

// TestBlocks: in a file of blocks, a message whose block does not end is rejected, with all its
// units; the others are good.
func TestBlocks(t *testing.T) {
	message := func(n int) string {
		return fmt.Sprintf("MSH|^~\\&|A|B|C|D|20261128||ORU^R01|%d|P|2.5\rPID|1||T-%d\rOBR|1\rOBX|1|ST|A||x\rOBX|2|ST|B||y\r", n, n)
	}
	for _, test := range []struct {
		file string
		bad  string
	}{
		{"\x0b" + message(1) + "\x1c\r\x0b" + message(2) + "\x1c\r", ""},
		{"\x0b" + message(1) + "\x1c\r\x0b" + message(2), "2"},
		{"\x0b" + message(1) + "\x0b" + message(2) + "\x1c\r", "1"},
		{"\x0b" + message(1), "1"},
		{message(1) + message(2), ""},
	} {
		for _, size := range []int{20, 1000} {
			for _, unit := range []string{"", "OBX"} {
				got, wrong := read(t, test.file, unit, size, "PID-3", "OBX-5")
				all, times := "", 1
				for _, r := range got {
					all += strings.Join(r.found, "\n")
				}
				if unit != "" {
					times = 2
				}
				if n := strings.Count(all, "error hl7.block"); n != times*len(test.bad) || len(got) != times*strings.Count(test.file, "MSH") {
					t.Errorf("%q, size %d, unit %q: %d records, %q %q", test.file, size, unit, len(got), all, wrong)
				}
			}
		}
	}
}

// against checks what the reader gives against the plain way: one message after
// the other taken apart whole.
func against(t *testing.T, file string, size int) {
	paths := []string{"MSH-9.2", "PID-3", "PID-3[2].1", "PID-3.2.2", "OBX-5", "OBX[2]-5.2", "OBX[2]-1", "NTE-1"}
	got, _ := read(t, file, "", size, paths...)
	whole, _ := read(t, file, "", 1<<20, paths...)
	if len(got) != len(whole) {
		t.Fatalf("%d records in small batches, %d in large ones", len(got), len(whole))
	}
	for i, r := range got {
		if !slices.Equal(r.values, whole[i].values) || r.at != whole[i].at || !slices.Equal(r.found, whole[i].found) {
			t.Fatalf("message %d: %v in small batches, %v in large ones", i, r, whole[i])
		}
		if file[r.at:r.at+int64(len(r.raw))] != r.raw {
			t.Fatalf("message %d is not where it says", i)
		}
		m, err := Parse([]byte(r.raw))
		if err != nil || slices.ContainsFunc(r.found, func(f string) bool { return strings.HasPrefix(f, "error") }) || strings.ContainsAny(r.raw, "\n\x0b\x1c ") || !text.IsASCII([]byte(r.raw)) {
			continue // the plain way takes other line ends and decodes nothing
		}
		for k, path := range paths {
			want, ok := m.Get(path)
			if want == `""` {
				want = "null"
			}
			if !ok || want == "" {
				want = "-"
			}
			if r.values[k] != want {
				t.Fatalf("message %q: %s is %q, %q the plain way", r.raw, path, r.values[k], want)
			}
		}
	}
}

func TestReaderAgainstThePlainWay(t *testing.T) {
	const letters = "ab|^~\\&\"\rFSTRE.XPIDOBMH1-#\x80\xc3\xa9"
	r := rand.New(rand.NewPCG(7, 7))
	for range 3000 {
		var file strings.Builder
		for range 1 + r.IntN(4) {
			file.WriteString("MSH|^~\\&|x|||||||ORU^R01\r")
			for range r.IntN(5) {
				file.WriteString([]string{"PID|", "OBX|", "NTE|", "OBR|"}[r.IntN(4)])
				for range r.IntN(30) {
					file.WriteByte(letters[r.IntN(len(letters))])
				}
				file.WriteByte('\r')
			}
		}
		against(t, file.String(), 16+r.IntN(200))
	}
}

func FuzzReader(f *testing.F) {
	f.Add("MSH|^~\\&|x\rPID|1||a^b&c~d\\F\\\rOBX|1\r", 20)
	f.Add("\x0bMSH|^~\\&#|x|||||||ORU^R01|||||||||8859/1\r\nOBX|\"\"|\xe9\r\x1c\r", 50)
	f.Fuzz(func(t *testing.T, file string, size int) {
		against(t, file, 1+size&0xfff)
		read(t, "BHS|^~\\&\r"+file, "OBX", 1+size&0xfff, "MSH-3", "OBX-5", "NTE-3", "PID-3[2].2")
	})
}

// one is a message with five results.
var one = head + "PID|1||T-VV^^^SCSR||GS||\"\"|U\rOBR|1|ORD1|S1^SCSR|CBC^Blood panel^L|||202508151915\r" + strings.Repeat("OBX|1|NM|ALT^ALT^L||165.66|U/L|20-90||||F\r", 5)

func BenchmarkReader(b *testing.B) {
	for _, bench := range []struct {
		name, unit string
		paths      []string
	}{{"bounds", "", nil}, {"three fields", "", []string{"MSH-10", "PID-3.1", "OBX-5"}}, {"units", "OBX", []string{"MSH-10", "PID-3.1", "OBX-5"}}} {
		b.Run(bench.name, func(b *testing.B) {
			const n = 10_000
			b.SetBytes(int64(n * len(one)))
			b.ReportAllocs()
			var file strings.Builder
			for range n {
				file.WriteString(one)
			}
			bt := &batch.Batch{}
			for b.Loop() {
				in, _ := text.Decode(strings.NewReader(file.String()), text.Declared)
				r, _, _ := format.Open(Source{Unit: bench.unit}, in, shape.Of(bench.paths...))
				for more := true; more; {
					bt.Reset()
					more, _ = r.Cut(bt)
					if bench.paths != nil {
						r.Split(bt)
					}
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/n, "ns/message")
		})
	}
}
