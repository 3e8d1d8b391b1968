package jsonschema

import (
	"bytes"
	"encoding/json"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"
)

// decode reads a value whose grammar has been proved (RFC 8259), as what rules are applied to:
// objects as maps, lists, texts, numbers as they are written, true, false and null. It is false if
// the value is not whole after all. Exponents tells whether a number has one.
func decode(raw []byte) (value any, exponents, ok bool) {
	d := decoder{raw: raw}
	defer func() {
		if recover() != nil { // it was cut off, which its grammar should not have allowed
			value, exponents, ok = nil, false, false
		}
	}()
	d.blanks()
	value = d.value()
	d.blanks()
	return value, d.exponents, d.at == len(raw) && !d.wrong
}

type decoder struct {
	raw   []byte
	at    int
	wrong bool

	exponents bool
}

func (d *decoder) blanks() {
	for d.at < len(d.raw) && (d.raw[d.at] == ' ' || d.raw[d.at] == '\n' || d.raw[d.at] == '\r' || d.raw[d.at] == '\t') {
		d.at++
	}
}

func (d *decoder) value() any {
	switch d.raw[d.at] {
	case '{':
		return d.object()
	case '[':
		return d.list()
	case '"':
		return d.text()
	case 't':
		d.at += len("true")
		return true
	case 'f':
		d.at += len("false")
		return false
	case 'n':
		d.at += len("null")
		return nil
	}
	from := d.at
	for d.at < len(d.raw) && bytes.IndexByte([]byte("0123456789+-.eE"), d.raw[d.at]) >= 0 {
		d.exponents = d.exponents || d.raw[d.at]|0x20 == 'e'
		d.at++
	}
	d.wrong = d.wrong || d.at == from
	return json.Number(d.raw[from:d.at])
}

// next passes blanks and what separates, and tells whether the end has been passed instead.
func (d *decoder) next(end byte) bool {
	d.blanks()
	if d.raw[d.at] == ',' {
		d.at++
		d.blanks()
	}
	if d.raw[d.at] == end {
		d.at++
		return true
	}
	return d.wrong
}

func (d *decoder) object() map[string]any {
	d.at++
	out := make(map[string]any, 8)
	for !d.next('}') {
		name := d.text()
		d.blanks()
		d.wrong = d.wrong || d.raw[d.at] != ':'
		d.at++
		d.blanks()
		out[name] = d.value()
	}
	return out
}

func (d *decoder) list() []any {
	d.at++
	out := []any{}
	for !d.next(']') {
		out = append(out, d.value())
	}
	return out
}

func (d *decoder) text() string {
	d.at++
	from := d.at
	for d.raw[d.at] != '"' && d.raw[d.at] != '\\' {
		d.at++
	}
	if d.raw[d.at] == '"' {
		d.at++
		return string(d.raw[from : d.at-1])
	}
	out := append([]byte(nil), d.raw[from:d.at]...)
	for d.raw[d.at] != '"' {
		if d.raw[d.at] != '\\' {
			out = append(out, d.raw[d.at])
			d.at++
			continue
		}
		c := d.raw[d.at+1]
		if d.at += 2; c != 'u' {
			if i := bytes.IndexByte([]byte("bfnrt"), c); i >= 0 {
				c = "\b\f\n\r\t"[i]
			}
			out = append(out, c)
			continue
		}
		r := d.unit()
		if utf16.IsSurrogate(r) && d.raw[d.at] == '\\' && d.raw[d.at+1] == 'u' {
			d.at += 2
			r = utf16.DecodeRune(r, d.unit())
		}
		out = utf8.AppendRune(out, r)
	}
	d.at++
	return string(out)
}

// unit reads four hexadecimal digits.
func (d *decoder) unit() rune {
	n, err := strconv.ParseUint(string(d.raw[d.at:d.at+4]), 16, 32)
	d.wrong = d.wrong || err != nil
	d.at += 4
	return rune(n)
}
