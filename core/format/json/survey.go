package json

import (
	"bytes"

	"ydrion/core/format"
)

// Survey calls f for the values in a record that are not objects and lists, with
// pointers in which * stands for each element of a list. The value of null is nil. What is
// nested deeper than MaxDepth, or stands behind what is not JSON, is left out.
func (r *Reader) Survey(raw []byte, f func(path, value []byte)) {
	s := survey{raw, make([]byte, 0, 64), nil, f}
	if p := skipBlanks(raw, 0); p < len(raw) {
		s.value(p, 0)
	}
}

type survey struct {
	raw, path, plain []byte
	f                func(path, value []byte)
}

// value goes through the value at p, and gives where it ends; -1 if it cannot be followed.
func (s *survey) value(p, depth int) int {
	open, base := s.raw[p], len(s.path)
	if open != '{' && open != '[' {
		end, whole, bad := skip(s.raw, p, true)
		switch {
		case !whole || bad >= 0:
			return -1
		case open == '"':
			s.f(s.path, s.text(s.raw[p+1:end-1]))
		case open == 'n':
			s.f(s.path, nil)
		default:
			s.f(s.path, s.raw[p:end])
		}
		return end
	}
	if depth == MaxDepth {
		return -1
	}
	for p = skipBlanks(s.raw, p+1); p < len(s.raw); p = skipBlanks(s.raw, p) {
		switch s.raw[p] {
		case ',':
			p++
			continue
		case open + 2:
			return p + 1
		}
		s.path = append(s.path[:base], '/')
		if open == '{' {
			stop := -1
			if s.raw[p] == '"' {
				stop = closing(s.raw, p+1)
			}
			if stop < 0 {
				break
			}
			for _, c := range s.text(s.raw[p+1 : stop]) {
				switch c {
				case '~':
					s.path = append(s.path, "~0"...)
				case '/':
					s.path = append(s.path, "~1"...)
				default:
					s.path = append(s.path, c)
				}
			}
			if p = skipBlanks(s.raw, skipBlanks(s.raw, stop+1)+1); p >= len(s.raw) {
				break
			}
		} else {
			s.path = append(s.path, '*')
		}
		if p = s.value(p, depth+1); p < 0 {
			break
		}
		s.path = s.path[:base]
	}
	s.path = s.path[:base]
	return -1
}

func (s *survey) text(b []byte) []byte {
	if bytes.IndexByte(b, '\\') < 0 {
		return b
	}
	s.plain, _ = unquote(s.plain[:0], b)
	return s.plain
}

// Outline gives the parts of a value.
func (r *Reader) Outline(raw []byte) []format.Node { return Outline(raw) }
