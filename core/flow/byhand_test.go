package flow_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
	"strconv"
	"unicode/utf8"
)

// hand is a scanner that is written for these samples alone: it knows their members, checks nothing, and
// keeps the whole file in memory.
type hand struct {
	in  []byte // with eight bytes of slack
	out []byte
}

// rows writes a row of each result, from the list or the first line on.
func (h *hand) rows(lines bool, to io.Writer) error {
	h.out = h.out[:0]
	for i := range nestedFields {
		if i > 0 {
			h.out = append(h.out, ',')
		}
		h.out = fmt.Appendf(h.out, "f%d", i)
	}
	h.out = append(h.out, '\n')
	p := 0
	if !lines {
		for h.in[p] != '[' {
			p++
		}
		p++
	}
	for p = h.blanks(p); p < len(h.in)-8 && h.in[p] == '{'; {
		if p = h.sample(p); len(h.out) > 200<<10 {
			if _, err := to.Write(h.out); err != nil {
				return err
			}
			h.out = h.out[:0]
		}
		if p = h.blanks(p); h.in[p] == ',' {
			p = h.blanks(p + 1)
		}
	}
	_, err := to.Write(h.out)
	return err
}

func (h *hand) blanks(p int) int {
	for h.in[p] <= ' ' && p < len(h.in)-8 {
		p++
	}
	return p
}

// member goes behind a member's name and colon, and gives the name.
func (h *hand) member(p int) (name []byte, value int) {
	end := h.quoted(p)
	return h.in[p+1 : end-1], h.blanks(h.blanks(end) + 1)
}

// quoted goes behind a string.
func (h *hand) quoted(p int) int {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	for p++; ; p += 8 {
		x := binary.LittleEndian.Uint64(h.in[p:])
		q, s := x^ones*'"', x^ones*'\\'
		if m := ((q-ones)&^q | (s-ones)&^s) & tops; m != 0 {
			p += bits.TrailingZeros64(m) >> 3
			if h.in[p] == '"' {
				return p + 1
			}
			p += 2 - 8
		}
	}
}

// skip goes behind a value.
func (h *hand) skip(p int) int {
	switch h.in[p] {
	case '"':
		return h.quoted(p)
	case '{', '[':
		for depth := 0; ; p++ {
			switch h.in[p] {
			case '"':
				p = h.quoted(p) - 1
			case '{', '[':
				depth++
			case '}', ']':
				if depth--; depth == 0 {
					return p + 1
				}
			}
		}
	}
	for h.in[p] > ' ' && h.in[p] != ',' && h.in[p] != '}' && h.in[p] != ']' {
		p++
	}
	return p
}

// object gives the values of members to a function, and ends behind it.
func (h *hand) object(p int, each func(name []byte, p int) int) int {
	for p = h.blanks(p + 1); h.in[p] != '}'; {
		name, value := h.member(p)
		if p = h.blanks(each(name, value)); h.in[p] == ',' {
			p = h.blanks(p + 1)
		}
	}
	return p + 1
}

// unescaped undoes \uXXXX, which is all that these samples have.
func unescaped(b []byte) []byte {
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] != '\\' {
			out = append(out, b[i])
			continue
		}
		n, _ := strconv.ParseUint(string(b[i+2:i+6]), 16, 16)
		out = utf8.AppendRune(out, rune(n))
		i += 5
	}
	return out
}

// text takes a value without its quotes.
func (h *hand) text(p int, to *[]byte) int {
	end := h.skip(p)
	if h.in[p] == '"' {
		if *to = h.in[p+1 : end-1]; bytes.IndexByte(*to, '\\') >= 0 {
			*to = unescaped(*to)
		}
	} else if h.in[p] != 'n' {
		*to = h.in[p:end]
	} else {
		*to = nil
	}
	return end
}

func (h *hand) sample(p int) int {
	var of [9][]byte // id, taken, station's code, name, lat and lon, animal's tag, species and kg
	var results [8][3][]byte
	n := 0
	p = h.object(p, func(name []byte, p int) int {
		switch string(name) {
		case "id":
			return h.text(p, &of[0])
		case "taken":
			return h.text(p, &of[1])
		case "station":
			return h.object(p, func(name []byte, p int) int {
				switch string(name) {
				case "code":
					return h.text(p, &of[2])
				case "name":
					return h.text(p, &of[3])
				case "lat":
					return h.text(p, &of[4])
				case "lon":
					return h.text(p, &of[5])
				}
				return h.skip(p)
			})
		case "animal":
			return h.object(p, func(name []byte, p int) int {
				switch string(name) {
				case "tag":
					return h.text(p, &of[6])
				case "species":
					return h.text(p, &of[7])
				case "kg":
					return h.text(p, &of[8])
				}
				return h.skip(p)
			})
		case "results":
			for p = h.blanks(p + 1); h.in[p] != ']'; {
				row := &results[n]
				n++
				p = h.object(p, func(name []byte, p int) int {
					switch string(name) {
					case "code":
						return h.text(p, &row[0])
					case "value":
						return h.text(p, &row[1])
					case "unit":
						return h.text(p, &row[2])
					}
					return h.skip(p)
				})
				if p = h.blanks(p); h.in[p] == ',' {
					p = h.blanks(p + 1)
				}
			}
			return p + 1
		}
		return h.skip(p)
	})
	for i := range n {
		for _, v := range results[i] {
			h.cell(v)
			h.out = append(h.out, ',')
		}
		for k, v := range of {
			if k > 0 {
				h.out = append(h.out, ',')
			}
			h.cell(v)
		}
		h.out = append(h.out, '\n')
	}
	return p
}

// cell writes a value: none of these has to be quoted.
func (h *hand) cell(v []byte) {
	at := len(h.out)
	h.out = append(h.out, v...)
	for _, c := range h.out[at:] {
		if c == ',' || c == '"' || c == '\n' {
			panic("a value that must be quoted")
		}
	}
}
