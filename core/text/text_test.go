package text

import (
	"bytes"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf16"

	"ydrion/core/value"
)

func TestPatternsAreRefusedWithTheRightLetter(t *testing.T) {
	for pattern, says := range map[string]string{
		"YYYY-MM-dd":       "years are yyyy",
		"yyyy-mm-dd":       "months are MM",
		"dd/MM/yyyy hh:mm": "hours from 0 to 23 are HH",
		"DD.MM.yyyy":       "days of the month are dd",
		"yyyy-MM-dd HH:MM": "one thing twice",
		"yyyyy":            "years are yyyy or yy",
		"yyyy-MM-ddTHH":    "letter T has no meaning",
		"'at":              "not closed",
		"--":               "no date in it",
		"ddd":              "too long",
		"yyyyD":            "which is DDD",
		"DDD":              "depends on the year",
		"yyyyMMDDD":        "one thing twice",
		"yyyyDDDdd":        "one thing twice",
	} {
		if _, err := ParsePattern(pattern); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v does not say %q", pattern, err, says)
		}
	}
}

// TestOffsets: the rows of the table of UTS 35, part 4, "Zone", for X, x and Z; and each reads what it writes.
func TestOffsets(t *testing.T) {
	for pattern, want := range map[string]string{
		"X": "Z -08 +0530", "XX": "Z -0800 +0530", "XXX": "Z -08:00 +05:30",
		"x": "+00 -08 +0530", "xx": "+0000 -0800 +0530", "xxx": "+00:00 -08:00 +05:30",
		"Z": "+0000 -0800 +0530", "ZZ": "+0000 -0800 +0530", "ZZZ": "+0000 -0800 +0530", "ZZZZZ": "Z -08:00 +05:30",
	} {
		p := MustPattern("HH:mm " + pattern)
		for i, want := range strings.Fields(want) {
			m, _ := MustPattern("HH:mmXXX").Read([]byte("06:30" + []string{"Z", "-08:00", "+05:30"}[i]))
			got := string(p.Append(nil, m))
			if got != "06:30 "+want {
				t.Errorf("%s: %q, not %q", pattern, got, want)
			}
			if back, ok := p.Read([]byte(got)); !ok || back != m {
				t.Errorf("%s does not read %q: %v %v", pattern, got, back, ok)
			}
		}
	}
}

// TestNamesThatAreWrong: a day of the week that is not that of the date is not read, nor is half a name.
func TestNamesThatAreWrong(t *testing.T) {
	for in, pattern := range map[string]string{"Tue, 25 Nov 2026": "EEE, dd MMM yyyy", "Wed, 25 Nove 2026": "EEE, dd MMM yyyy", "25 Nov 2026": "dd MMMM yyyy", "We, 25 Nov 2026": "EEE, dd MMM yyyy", "Wedn, 25 Nov 2026": "EEEE, dd MMM yyyy", "": "EEE"} {
		if m, ok := MustPattern(pattern).Read([]byte(in)); ok {
			t.Errorf("%s reads %q: %v", pattern, in, m)
		}
	}
	p := MustPattern("EEE HH:mm")
	if _, is := p.Says(); is {
		t.Error("a day of the week is taken for a date")
	}
	if lacks := p.Lacks(value.Moment{From: value.Hour, Precision: value.Minute}); lacks != "date" && lacks != "year" {
		t.Errorf("it lacks %q", lacks)
	}
}

func TestPatternsReadAndWrite(t *testing.T) {
	tests := []struct{ pattern, in, out, written string }{
		{"dd/MM/yyyy HH:mm", "25/11/2026 06:30", "yyyyMMddHHmm", "202611250630"},
		{"d.M.yy", "5.1.26", "yyyy-MM-dd", "2026-01-05"},
		{"d.M.yy", "5.1.70", "yyyy-MM-dd", "1970-01-05"},
		{"d.M.yy", "5.1.69", "yyyy-MM-dd", "1969-01-05"}, // POSIX, strptime, %y
		{"d.M.yy", "5.1.68", "yyyy-MM-dd", "2068-01-05"},
		{"yyMMdd", "000229", "yyyy-MM-dd", "2000-02-29"},
		{"MM/dd/yyyy hh:mm a", "11/25/2026 12:05 AM", "HH:mm", "00:05"},
		{"MM/dd/yyyy h:mm a", "11/25/2026 1:05 pm", "HH:mm:ss", "13:05:00"},
		{"dd-MMM-yyyy", "25-nov-2026", "yyyyMMdd", "20261125"},
		{"yyyy-MM-dd'T'HH:mm:ssXXX", "2026-11-25T06:30:00+01:00", "HHmmXX", "0630+0100"},
		{"yyyy-MM-dd'T'HH:mm:ssXXX", "2026-11-25T06:30:00Z", "HHmmXXX", "0630Z"},
		{"yyyyMMddHHmmss.SSS", "20261125063000.250", "ss.SSSSSS", "00.250000"},
		{"yyyyDDD", "2026329", "yyyy-MM-dd", "2026-11-25"},
		{"yyDDD HH:mm", "24366 06:30", "dd.MM.yyyy HH:mm", "31.12.2024 06:30"},
		{"DDD/yyyy", "060/2024", "yyyyMMdd", "20240229"},
		{"dd.MM.yyyy", "01.03.2025", "yyyyDDD", "2025060"},
		{"yyyyDDD", "2025001", "yyDDD", "25001"},
		{"EEE, dd MMM yyyy HH:mm:ss Z", "Wed, 25 Nov 2026 06:30:00 +0100", "yyyyMMddHHmmssZZZ EEEE", "20261125063000+0100 Wednesday"},
		{"EEEE d MMMM yyyy", "sunday 1 MAY 2033", "MMMM d, EEE", "May 1, Sun"},
		{"d MMMM yyyy HH:mmXXX", "1 September 2026 23:30-09:30", "EEEE HH:mm ZZZZZ", "Tuesday 23:30 -09:30"},
		{"'week of' d MMM yyyy", "week of 2 Mar 2026", "d.M.", "2.3."},
	}
	for _, test := range tests {
		in, out := MustPattern(test.pattern), MustPattern(test.out)
		m, ok := in.Read([]byte(test.in))
		if !ok {
			t.Errorf("%s does not read %s", test.pattern, test.in)
			continue
		}
		if got := string(out.Append(nil, m)); got != test.written {
			t.Errorf("%s in %s, written in %s: %s, want %s", test.in, test.pattern, test.out, got, test.written)
		}
	}
	for pattern, bad := range map[string][]string{
		"dd/MM/yyyy": {"31/02/2026", "1/2/2026", "32/01/2026", "00/01/2026", "25/13/2026", "25-11-2026", "25/11/2026 ", "", "２５/11/2026"},
		"HH:mm":      {"24:00", "23:60", "7:30", "07:3"},
		"yyyyDDD":    {"2025366", "2024367", "2025000", "202532", "2025 32", "20250325", "2025x01"},
		"hh:mm a":    {"00:30 am", "13:00 pm", "12:30"},
	} {
		p := MustPattern(pattern)
		for _, s := range bad {
			if _, ok := p.Read([]byte(s)); ok {
				t.Errorf("%s reads %q", pattern, s)
			}
		}
	}
}

func TestStrptime(t *testing.T) {
	p, err := ParseStrptime("%d/%m/%Y at %H:%M")
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := p.Read([]byte("25/11/2026 at 06:30")); !ok {
		t.Errorf("%s does not read the date", p)
	}
	// POSIX strptime: leading zeros are permitted but not required. What a date is made
	// into is the same, whichever way it is written.
	moves, ok := Rearrange(p, MustPattern("yyyyMMddHHmm"))
	if !ok {
		t.Fatal("the digits are not moved")
	}
	for written, want := range map[string]string{"25/11/2026 at 06:30": "202611250630", "5/11/2026 at 06:30": "202611050630", "25/1/2026 at 6:3": "202601250603", "5/1/2026 at 6:30": "202601050630"} {
		if _, ok := p.Read([]byte(written)); !ok {
			t.Errorf("%s does not read %s", p, written)
		}
		if got := string(moves.Append(nil, []byte(written))); got != want {
			t.Errorf("%s becomes %s, not %s", written, got, want)
		}
	}
	// A digit beside a field belongs to neither or both: then the field has its two.
	for pattern, no := range map[string]string{"%d0%m": "501", "1%d.%m": "15.1", "%d%m": "51", "%m.%d0": "1.50"} {
		p, err := ParseStrptime(pattern)
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := p.Read([]byte(no)); ok {
			t.Errorf("%s reads %s", pattern, no)
		}
	}
	if _, err := ParseStrptime("%Q"); err == nil || !strings.Contains(err.Error(), "% must be followed by one of") {
		t.Error("%Q was taken")
	}
}

// TestRearrangementsAgree checks the moving of digits against reading and
// writing.
func TestRearrangementsAgree(t *testing.T) {
	froms := []string{"dd/MM/yyyy HH:mm", "yyyyMMddHHmmss", "yyyy-MM-dd", "HH:mm dd.MM.yyyy"}
	tos := []string{"yyyyMMddHHmm", "yyyy-MM-dd'T'HH:mm:ss", "yyyyMMdd", "dd.MM.yyyy", "HHmm"}
	moved := 0
	for _, from := range froms {
		for _, to := range tos {
			f, o := MustPattern(from), MustPattern(to)
			r, ok := Rearrange(f, o)
			if !ok {
				continue
			}
			moved++
			for _, iso := range []string{"2026-11-25T06:30", "1999-01-02T23:59"} {
				m, _ := ReadISO([]byte(iso))
				source := f.Append(nil, m)
				read, ok := f.Read(source)
				if !ok {
					t.Fatalf("%s does not read %s", from, source)
				}
				if got, want := string(r.Append(nil, source)), string(o.Append(nil, read)); got != want {
					t.Errorf("%s → %s: %s moved to %s, written as %s", from, to, source, got, want)
				}
				room := make([]byte, 40)
				n := r.Copy(room, append(source, "and more"...)[:len(source)])
				if want := string(o.Append(nil, read)); n != len(want) || string(room[:n]) != want {
					t.Errorf("%s → %s: %s copied to %q, %d bytes, written as %s", from, to, source, room, n, want)
				}
			}
		}
	}
	if moved < 12 {
		t.Errorf("only %d of %d changes only move digits", moved, len(froms)*len(tos))
	}
	if _, ok := Rearrange(MustPattern("d.M.yyyy"), MustPattern("yyyyMMdd")); ok {
		t.Error("digits of varying width were moved")
	}
}

func mustISO(t *testing.T, s string) value.Moment {
	t.Helper()
	m, ok := ReadISO([]byte(s))
	if !ok {
		t.Fatalf("%s is not a date", s)
	}
	return m
}

func TestDecode(t *testing.T) {
	wide := func(s string, big bool) string {
		var b []byte
		for _, u := range utf16.Encode([]rune(s)) {
			if big {
				b = append(b, byte(u>>8), byte(u))
			} else {
				b = append(b, byte(u), byte(u>>8))
			}
		}
		return string(b)
	}
	tests := []struct {
		name, in string
		declared Charset
		want     string
		charset  Charset
		unsure   bool
	}{
		{"plain", "4 °C", UTF8, "4 °C", UTF8, false},
		{"utf-8 mark", "\xEF\xBB\xBFa", UTF8, "a", UTF8, false},
		{"latin-1", "4 \xB0C", Latin1, "4 °C", Latin1, false},
		{"windows-1252", "\x80 \x93x\x94", Windows1252, "€ “x”", Windows1252, false},
		{"utf-16 little", "\xFF\xFE" + wide("a€", false), UTF16, "a€", UTF16LE, false},
		{"utf-16 big", "\xFE\xFF" + wide("a€", true), UTF16, "a€", UTF16BE, false},
		{"utf-16 without a mark", wide("abc", true), UTF16, "abc", UTF16BE, false},
		{"mark against the declaration", "\xFF\xFE" + wide("abc", false), UTF8, "abc", UTF16LE, true},
		{"utf-16 taken for utf-8", wide("abcdef", false), UTF8, wide("abcdef", false), UTF8, true},
		{"nothing", "", UTF8, "", UTF8, false},
	}
	for _, test := range tests {
		d, err := Decode(strings.NewReader(test.in), test.declared)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(d)
		if err != nil || string(got) != test.want || d.Charset != test.charset || (d.Unsure != "") != test.unsure {
			t.Errorf("%s: %q in %s, unsure %q, %v", test.name, got, d.Charset, d.Unsure, err)
		}
		back, err := Encode(got, d.Charset)
		if err != nil || !bytes.Equal(append(bytes.Clone(d.Mark), back...), []byte(test.in)) {
			t.Errorf("%s: does not go back as it came: %q, %v", test.name, back, err)
		}
	}
}

func TestFirstInvalid(t *testing.T) {
	for in, want := range map[string]int{"abc": -1, "4 °C": -1, "4 \xB0C": 2, "\xFF": 0, "ok\xC3": 2} {
		if got := FirstInvalid([]byte(in)); got != want {
			t.Errorf("%q: %d, want %d", in, got, want)
		}
	}
}

// TestFixedPatternsAgree checks the fast way to read against the general one.
func TestFixedPatternsAgree(t *testing.T) {
	for _, source := range []string{"dd/MM/yyyy HH:mm", "yyyyMMdd", "yyyy-MM-dd'T'HH:mm:ss"} {
		fast, slow := MustPattern(source), MustPattern(source)
		slow.fixed = nil
		if fast.fixed == nil {
			t.Fatalf("%s is not read the fast way", source)
		}
		good := string(slow.Append(nil, mustISO(t, "2024-02-29T23:59:58")))
		for i := range good {
			for _, c := range "0123456789/:-T x\x00" {
				s := good[:i] + string(c) + good[i+1:]
				if len(s) != len(good) {
					continue
				}
				m, ok := fast.Read([]byte(s))
				n, also := slow.Read([]byte(s))
				if ok != also || ok && m != n {
					t.Errorf("%s reads %q as %v %v, the slow way %v %v", source, s, m, ok, n, also)
				}
			}
		}
	}
}

// TestControls: each control character, and each that is beyond ASCII, is found wherever it stands, whatever stands beside it.
func TestControls(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 40_000 {
		ends := []string{"\r", "\r\n"}[r.IntN(2)]
		plain := func(c byte) bool { return c >= ' ' && c != 0x7f || strings.IndexByte(ends, c) >= 0 }
		b, controls, ascii, usual := make([]byte, r.IntN(200)), false, true, 1+r.IntN(400)
		for i := range b {
			if b[i] = byte(r.IntN(256)); r.IntN(usual) > 0 && (!plain(b[i]) || b[i] >= 0x80) {
				b[i] = "\r\n aé\x80\xff~\x1f"[r.IntN(4+r.IntN(6))]
			}
			controls, ascii = controls || !plain(b[i]), ascii && b[i] < 0x80
		}
		if a, c := AllBut(ends).In(b); a != ascii || c != controls {
			t.Fatalf("%q: %v, %v", b, a, c)
		}
	}
}

// TestCopy: a value is copied as it stands if nothing in it is special, wherever that may stand, and is left to
// Append otherwise, which writes it as a plain loop does.
func TestCopy(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for n := range 30_000 {
		with := map[byte]string{}
		for _, c := range [][]byte{[]byte("\"\\"), []byte("|^~\\&\x7f\r\n"), []byte(",\"\r\n"), []byte("*~^:"), {byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256)), byte(r.IntN(256))}, nil}[r.IntN(6)] {
			with[c] = "<" + string(rune('a'+c%26)) + ">"
		}
		e := NewEscapes(with)
		always := r.IntN(2) == 0
		if always {
			e.Quoted('\'', true)
		}
		v := make([]byte, r.IntN(50))
		for i := range v {
			if v[i] = "abc 0189_-.äXYZ"[r.IntN(15)]; r.IntN(30) == 0 {
				v[i] = byte(r.IntN(256))
			}
			if r.IntN(60) == 0 {
				for c := range with {
					v[i] = c
				}
			}
		}
		if r.IntN(2) == 0 {
			v = append(v, "||\"\"^^,,\\\\\\\\\n\n"...)[:len(v)] // what stands behind a value is not its own
		}
		want, plain := "", true
		for i, c := range v {
			written, special := with[c]
			if !special {
				written = string(v[i : i+1])
			}
			if c == '\r' && i+1 < len(v) && v[i+1] == '\n' && with['\r'] == with['\n'] {
				written = ""
			}
			want, plain = want+written, plain && !special
		}
		if always {
			want = "'" + want + "'"
		}
		room := make([]byte, len(v)+r.IntN(20))
		if k := e.Copy(room, v); k >= 0 && (!plain || string(room[:k]) != want) {
			t.Fatalf("%d: %q with %v: copied as %q", n, v, with, room[:k])
		} else if k < 0 && plain && len(room) >= len(v)+10 && cap(v) >= len(v)+8 && e.sieve.whole && !bytes.ContainsFunc(v, func(c rune) bool { return c < ' ' }) {
			t.Fatalf("%d: %q with %v: not copied", n, v, with)
		}
		if got := string(e.Append([]byte("> "), v)); got != "> "+want && with['\r'] == "" {
			t.Fatalf("%d: %q with %v: %q, want %q", n, v, with, got, want)
		}
	}
}

// TestFirstYear: two digits mean the hundred years from the one that is said; where there are none, nothing can be said of them.
func TestFirstYear(t *testing.T) {
	for _, pattern := range []string{"yyMMdd", "d.M.yy", "dd-MMM-yy"} {
		p, err := ParsePattern(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, since := range []int{1, 99, 100, 1900, 1930, 1999, 2000, 2026, 9900} {
			q := p.Since(since)
			for y := since; y < since+100; y++ {
				full := value.Moment{Year: int16(y), Month: 3, Day: 28, Precision: value.Day, Offset: value.NoZone}
				if got, ok := q.Read(p.Append(nil, full)); !ok || got.Year != full.Year || got.Month != 3 || got.Day != 28 {
					t.Fatalf("%s since %d: %d is read as %d, %v", pattern, since, y, got.Year, ok)
				}
			}
		}
		if p.Since(0) != nil || p.Since(9901) != nil {
			t.Errorf("%s: years that there are not", pattern)
		}
		if m, _ := p.Read(p.Append(nil, value.Moment{Year: 1969, Month: 1, Day: 1})); m.Year != 1969 {
			t.Errorf("%s itself has become another: %d", pattern, m.Year)
		}
	}
	if p, _ := ParsePattern("yyyy-MM-dd"); p.Since(1930) != nil {
		t.Error("four digits are counted from 1930")
	}
}
