package formats

import (
	"bytes"
	"strings"

	"ydrion/core/format/edifact"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
)

// others are types of files that no route reads, by what they begin with. They are named so that
// nobody looks for a mistake in a table that is none.
var others = []struct{ begins, name string }{
	{"%PDF-", "a PDF document"},
	{"\x89PNG\r\n\x1a\n", "a PNG picture"},
	{"\xff\xd8\xff", "a JPEG picture"},
	{"GIF8", "a GIF picture"},
	{"II*\x00", "a TIFF picture"},
	{"MM\x00*", "a TIFF picture"},
	{"RIFF", "a RIFF file: a WebP picture, sound or film"},
	{"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "an office document of the older kind (.xls, .doc, .ppt, .msg)"},
	{"{\\rtf", "a document in RTF"},
	{"7z\xbc\xaf\x27\x1c", "a 7z archive"},
	{"Rar!\x1a\x07", "a RAR archive"},
	{"BZh", "a file compressed with bzip2"},
	{"\xfd7zXZ\x00", "a file compressed with xz"},
	{"\x28\xb5\x2f\xfd", "a file compressed with zstd"},
	{"SQLite format 3\x00", "an SQLite database"},
	{"PAR1", "a Parquet table"},
	{"\x7fELF", "a program"},
	{"\x78\x9f\x3e\x22", "an attachment of a mail program (winmail.dat)"},
	{"%!PS", "a PostScript document"},
	{"-----BEGIN ", "a key, a certificate or an encrypted message (PEM)"},
}

// other recognises what no route reads.
func (g *Guess) other(head []byte) bool {
	for _, o := range others {
		if bytes.HasPrefix(head, []byte(o.begins)) {
			g.Type = o.name
			g.because(Certain, "its first bytes are those of %s; no route reads those", o.name)
			return true
		}
	}
	if len(head) > 262 && string(head[257:262]) == "ustar" {
		g.Type = "a tar archive"
		g.because(Certain, "at byte 257 it says that it is a tar archive; no route reads those")
		return true
	}
	start := strings.ToLower(strings.TrimLeft(string(head[:min(len(head), 300)]), "\uFEFF \t\r\n"))
	switch {
	case strings.HasPrefix(start, "<!doctype html"), strings.HasPrefix(start, "<html"):
		g.Type = "a web page (HTML)"
		g.because(Certain, "it begins as a web page does; no route reads those")
	case strings.HasPrefix(start, "<?xml"), len(start) > 2 && start[0] == '<' && start[1] >= 'a' && start[1] <= 'z' && strings.Contains(start, ">"):
		g.Type = "XML"
		g.because(Likely, "it begins with a tag of XML, which no route reads")
	default:
		return false
	}
	return true
}

// broken recognises what is meant as messages and does not begin as one must: the reader then says
// what is wrong with it.
func (g *Guess) broken(b []byte) bool {
	if len(b) > 4 && string(b[:3]) == "ISA" && !alphanumeric(b[3]) {
		sep := string(b[3:4])
		if strings.Contains(string(b), "IEA"+sep) || strings.Contains(string(b), "GS"+sep) || len(b) < 106 && strings.Count(string(b), sep) > 3 && !strings.ContainsAny(sep, ",;\t") {
			_, problem := x12.Rules.Begin(b)
			g.Format = "x12"
			g.because(Likely, "it begins with ISA, as an interchange of X12 does, but not as one must: %s", problem)
			return true
		}
	}
	for _, rules := range []*segments.Rules{x12.Rules, edifact.Rules} {
		for _, name := range []string{"UNA", rules.Levels[0].Open} {
			for at := 0; ; at += 3 {
				i := bytes.Index(b[at:], []byte(name))
				if i < 0 {
					break
				}
				at += i
				if _, problem := rules.Begin(b[at:]); problem == "" && (at == 0 || rules == x12.Rules || b[at-1] == '\r' || b[at-1] == '\n') {
					g.Format = rules.Name
					g.because(Likely, "an interchange begins at byte %d, and something else stands before it", at)
					return true
				}
			}
		}
	}
	for at := 0; ; at += 3 {
		i := bytes.Index(b[at:], []byte("MSH"))
		if i < 0 {
			return false
		}
		at += i
		line := b[at:]
		if len(line) > 8 && !alphanumeric(line[3]) && line[8] == line[3] && (at == 0 || b[at-1] == '\r' || b[at-1] == '\n') {
			g.Format = "hl7"
			g.because(Likely, "a message begins at byte %d, and something else stands before it", at)
			return true
		}
	}
}

func alphanumeric(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z'
}
