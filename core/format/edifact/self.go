package edifact

import (
	"strings"

	"ydrion/core/format"
	"ydrion/core/segments"
)

// Format is EDIFACT.
var Format = func() *format.Format {
	f := Rules.Format()
	f.Recognise = recognise
	f.Type = func(path, value []byte, of *format.Type) {
		switch string(path) {
		case "UNH-2.1":
			of.Name = append(of.Name, value...)
		case "UNH-2.2":
			of.Version = append(append(of.Version, value...), '.')
		case "UNH-2.3":
			of.Version = append(of.Version, value...)
		}
	}
	f.Meaning = func(path, version string) string { return segments.Meaning(Directories.Version(version), path) }
	return f
}()

// recognise knows UNA and UNB (ISO 9735-1).
func recognise(g *format.Guess, b, _ []byte, _ format.Known) bool {
	separators := "+:'"
	switch {
	case len(b) > 9 && string(b[:3]) == "UNA":
		separators = string([]byte{b[4], b[3], b[8]})
		g.Because(format.Certain, "it begins with UNA and its separators %s", b[3:9])
	case len(b) > 4 && (string(b[:4]) == "UNB+" || string(b[:4]) == "UIB+"):
		g.Because(format.Certain, "it begins with %s", b[:3])
	default:
		return false
	}
	for _, s := range strings.Split(string(b), separators[2:]) {
		parts := strings.Split(strings.TrimLeft(s, "\r\n"), separators[:1])
		switch {
		case parts[0] == "UNB" && len(parts) > 1:
			g.Because(format.Certain, "the interchange says it is in %s", parts[1])
			if len(parts) > 5 {
				of := func(n int) string { s, _, _ := strings.Cut(parts[n], separators[1:2]); return s }
				use := "production"
				if len(parts) > 11 && parts[11] == "1" {
					use = "test"
				}
				g.Because(format.Certain, "interchange %s from %s to %s, for %s", parts[5], of(2), of(3), use)
			}
		case parts[0] == "UNH" && len(parts) > 2 && g.Type == "":
			of := strings.Split(parts[2], separators[1:2])
			g.Type = of[0]
			if len(of) > 2 {
				g.Version = of[1] + "." + of[2]
			}
			g.Because(format.Certain, "the first message is %s of %s", g.Type, g.Version)
			book := Directories.Version(g.Version)
			if of := near(g.Version, g.Type); book == nil && of != "" {
				g.Because(format.Certain, "%s of %s is not described here: it is checked against that of %s", g.Type, g.Version, of)
			} else if book == nil {
				groups := nearest(g.Version)
				if of := Directories.Version(groups); of == nil || of.Structure(g.Type) == nil {
					groups = ""
				}
				g.Described(nil, nil, groups)
			} else {
				g.Described(book, book.Structure(g.Type), "")
			}
		}
	}
	return true
}
