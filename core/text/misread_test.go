package text

import (
	"io"
	"math/rand/v2"
	"strings"
	"testing"
)

// TestMisread: a text that is declared as of another set and is UTF-8 is known as that, in whatever pieces it comes, with the place and the word where
// that shows; one that is of its set is not.
func TestMisread(t *testing.T) {
	words := map[Charset][]string{
		Latin1:       {"Sülwald", "Åse", "CAFÉ", "Œ", "«café»", "12 °C", "µg", "½"},
		Windows1252:  {"Sülwald", "“quoted”", "5 €", "Ž"},
		"iso-8859-2": {"Łódź", "Żółw", "Čáp"}, "windows-1251": {"Тюлень", "Бухта"}, "iso-8859-7": {"φώκια"},
		"ibm850": {"Sülwald", "Åse"}, "koi8-r": {"Тюлень"}, GB18030: {"海豹救援", "站"}, ShiftJIS: {"アザラシ", "海豹"}, Big5: {"海豹"}, "euc-jp": {"アザラシ"},
	}
	for set, beyond := range words {
		for seed := range uint64(200) {
			r := rand.New(rand.NewPCG(seed, 7))
			plain, first := "", ""
			for range 3 + r.IntN(12) {
				if word := beyond[r.IntN(len(beyond))]; r.IntN(3) == 0 {
					if first == "" {
						first = word
					}
					plain += word
				} else {
					plain += []string{"tag", "T-0412", "12.5"}[r.IntN(3)]
				}
				plain += []string{",", "\n", "\r\n", "\r", " "}[r.IntN(5)]
			}
			d, err := Decode(&pieces{plain, r}, set)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := io.ReadAll(d); err != nil {
				t.Fatal(err)
			}
			m := d.Misread
			if m.Is() != (first != "") {
				t.Fatalf("%s, seed %d: %v of %q", set, seed, m.Is(), plain)
			}
			if first != "" {
				at := strings.IndexFunc(plain, func(c rune) bool { return c >= 0x80 })
				before := plain[:at]
				ends := strings.ReplaceAll(strings.ReplaceAll(before, "\r\n", "\n"), "\r", "\n")
				line, column := strings.Count(ends, "\n")+1, len(ends)-strings.LastIndexByte(ends, '\n')
				if int(m.Offset) != at || int(m.Line) != line || int(m.Column) != column || m.Means == "" || !strings.Contains(plain, m.Means) {
					t.Errorf("%s, seed %d: %d, line %d, column %d, %q; %q", set, seed, m.Offset, m.Line, m.Column, m.Means, plain)
				}
			}
			encoded, err := Encode([]byte(plain), set)
			if err != nil {
				continue // it does not have all of that
			}
			if d, err = Decode(&pieces{string(encoded), r}, set); err != nil {
				t.Fatal(err)
			}
			if back, err := io.ReadAll(d); err != nil || string(back) != plain || d.Misread.Is() {
				t.Errorf("%s, seed %d: %q, %v, taken for UTF-8: %v", set, seed, back, err, d.Misread.Is())
			}
		}
	}
}

// TestNotMisread: a sign behind a capital letter is a character of UTF-8, too, as are two of the bytes of some sets. That is chance.
func TestNotMisread(t *testing.T) {
	for text, set := range map[string]Charset{"CAFÉ»": Windows1252, "CAFÉ®, CAFÉ®": Latin1, "站 站 站 站 站": GB18030, "HAVRE DE L’ÎLE": Windows1252} {
		encoded, err := Encode([]byte(text), set)
		if err != nil {
			t.Fatal(err)
		}
		m := NewMisread(set)
		if m.look(encoded); m.Is() {
			t.Errorf("%q in %s is taken for UTF-8", text, set)
		}
	}
}

// pieces gives a text in pieces of any length.
type pieces struct {
	text string
	r    *rand.Rand
}

func (p *pieces) Read(b []byte) (int, error) {
	if p.text == "" {
		return 0, io.EOF
	}
	n := copy(b[:min(len(b), 1+p.r.IntN(7))], p.text)
	p.text = p.text[n:]
	return n, nil
}
