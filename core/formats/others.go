package formats

import (
	"bytes"
	"strings"

	"ydrion/core/format"
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
func (g *recognising) other(head []byte) bool {
	for _, o := range others {
		if bytes.HasPrefix(head, []byte(o.begins)) {
			g.Type = o.name
			g.Because(format.Certain, "its first bytes are those of %s; no route reads those", o.name)
			return true
		}
	}
	if len(head) > 262 && string(head[257:262]) == "ustar" {
		g.Type = "a tar archive"
		g.Because(format.Certain, "at byte 257 it says that it is a tar archive; no route reads those")
		return true
	}
	start := strings.ToLower(strings.TrimLeft(string(head[:min(len(head), 300)]), "\uFEFF \t\r\n"))
	switch {
	case strings.HasPrefix(start, "<!doctype html"), strings.HasPrefix(start, "<html"):
		g.Type = "a web page (HTML)"
		g.Because(format.Certain, "it begins as a web page does; no route reads those")
	case strings.HasPrefix(start, "<?xml"), len(start) > 2 && start[0] == '<' && start[1] >= 'a' && start[1] <= 'z' && strings.Contains(start, ">"):
		g.Type = "XML"
		g.Because(format.Likely, "it begins with a tag of XML, which no route reads")
	default:
		return false
	}
	return true
}
