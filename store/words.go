package store

import (
	"bytes"
	"path/filepath"

	"ydrion/core/text"
)

// Readable makes a text that the database can keep.
func Readable(s string) string { return text.Readable(s) }

func readable(s *string) *string {
	if s == nil {
		return nil
	}
	r := Readable(*s)
	return &r
}

// rawPath is what is kept beside a readable path that is not the path itself.
func rawPath(path string) []byte {
	if Readable(path) == path {
		return nil
	}
	return []byte(path)
}

// jsonText makes JSON that the database can keep: NUL, which it cannot, becomes the
// sign for it.
func jsonText(b []byte) string {
	if !bytes.Contains(b, []byte(`\u0000`)) {
		return string(b)
	}
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] != '\\' || i+1 == len(b) {
			out = append(out, b[i])
			continue
		}
		if bytes.HasPrefix(b[i:], []byte(`\u0000`)) {
			out = append(out, `\u2400`...)
			i += 5
			continue
		}
		out = append(out, b[i], b[i+1])
		i++
	}
	return string(out)
}

// named restores a path as it is from what the database keeps.
func named(path string, raw []byte) (string, string) {
	if raw == nil {
		return path, filepath.Base(path)
	}
	return string(raw), filepath.Base(string(raw))
}
