package hl7

import (
	"bytes"
	"encoding/json"
	"fmt"

	"ydrion/core/text"
)

// A message in JSON is an object:
//
//	{"segments": [["MSH", "|", "^~\\&", "SENDER"], ["PID", "1", null, ["T-1", null, null, "SCSR"]]]}
//
// The element n of a segment is its field n; MSH-1 and MSH-2 are the separators. A
// field that holds nothing is null. One with components is a list of them, a component
// with subcomponents is a list in that list; of a list, the element n is the
// component n + 1. A field that repeats is {"repeat": [field, …]}. Values are as a
// reader gives them, escape sequences undone; one that would not be written back as
// it stands is {"raw": "…"} with its sequences. The null of HL7 is the text "".
//
// Line ends other than CR are the member "ends". Segments around messages (FHS, BHS,
// BTS, FTS) are objects of their own.

// AppendJSON writes a message, or the segments around messages, in this form.
// Its text must be UTF-8. Separators are those of its first segment, or given for
// those that name none.
func AppendJSON(out, message []byte, usual Separators) ([]byte, Separators, error) {
	sep := usual
	first := bytes.TrimLeft(message, "\r\n\x0b\x1c ")
	out = append(out, '{')
	ends := byte('\r')
	if i := bytes.IndexAny(first, "\r\n"); i >= 0 && first[i] == '\n' {
		ends = '\n'
		out = append(out, `"ends":"\n",`...)
	} else if i >= 0 && i+1 < len(first) && first[i+1] == '\n' && bytes.IndexByte(first[i+2:], '\n') >= 0 {
		out = append(out, `"ends":"\r\n",`...)
	}
	out = append(out, `"segments":[`...)
	n := 0
	for len(first) > 0 {
		var line []byte
		line, first, _ = bytes.Cut(first, []byte{ends})
		if line = bytes.Trim(line, "\r\n\x0b\x1c"); len(line) == 0 {
			continue
		}
		if len(line) < 3 || !nameAt(line, 0) || len(line) > 3 && !header(line) && line[3] != sep.Field {
			return out, sep, fmt.Errorf("%.40q is not a segment", line)
		}
		if header(line) {
			var problem string
			if sep, problem = separators(append([]byte("MSH"), line[3:]...)); problem != "" {
				return out, sep, fmt.Errorf("the separators of %s cannot be read: %s", line[:3], problem)
			}
		}
		if n++; n > 1 {
			out = append(out, ',')
		}
		out = appendSegment(out, line, sep)
	}
	return append(out, ']', '}'), sep, nil
}

// header tells whether a segment is one of those that name the separators.
func header(line []byte) bool {
	name := string(line[:min(3, len(line))])
	return name == "MSH" || name == "FHS" || name == "BHS"
}

func appendSegment(out, line []byte, sep Separators) []byte {
	out = append(appendString(append(out, '['), line[:3]), ',')
	fields := bytes.Split(line[min(4, len(line)):], []byte{sep.Field})
	if len(line) == 3 {
		return append(out[:len(out)-1], ']')
	}
	if header(line) {
		out = append(appendString(out, line[3:4]), ',')
		out = appendString(out, fields[0])
		fields = fields[1:]
		if len(fields) > 0 {
			out = append(out, ',')
		}
	}
	for i, f := range fields {
		if i > 0 {
			out = append(out, ',')
		}
		if bytes.IndexByte(f, sep.Repetition) < 0 {
			out = appendValue(out, f, sep, sep.Component, sep.Subcomponent)
			continue
		}
		out = append(out, `{"repeat":[`...)
		for k, r := range bytes.Split(f, []byte{sep.Repetition}) {
			if k > 0 {
				out = append(out, ',')
			}
			out = appendValue(out, r, sep, sep.Component, sep.Subcomponent)
		}
		out = append(out, "]}"...)
	}
	return append(out, ']')
}

// appendValue writes a value that may be separated by several characters in turn.
func appendValue(out, v []byte, sep Separators, by ...byte) []byte {
	if len(v) == 0 {
		return append(out, "null"...)
	}
	if len(by) > 0 {
		// A field with subcomponents but one component is a list of one list.
		if bytes.IndexByte(v, by[0]) >= 0 || len(by) > 1 && bytes.IndexByte(v, by[1]) >= 0 {
			out = append(out, '[')
			for i, part := range bytes.Split(v, by[:1]) {
				if i > 0 {
					out = append(out, ',')
				}
				out = appendValue(out, part, sep, by[1:]...)
			}
			return append(out, ']')
		}
	}
	plain, _ := sep.AppendUnescaped(nil, v)
	if bytes.Equal(sep.Escapes().Append(nil, plain), v) {
		return appendString(out, plain)
	}
	return append(appendString(append(out, `{"raw":`...), v), '}')
}

func appendString(out, s []byte) []byte { return text.JSON.Append(out, s) }

// form is a message in JSON.
type form struct {
	Ends     string              `json:"ends"`
	Segments [][]json.RawMessage `json:"segments"`
}

// FromJSON writes a message from its JSON form. Separators that a segment does not
// name are the usual ones given; those in use are returned.
func FromJSON(object []byte, usual Separators) ([]byte, Separators, error) {
	d := json.NewDecoder(bytes.NewReader(object))
	d.DisallowUnknownFields()
	var f form
	if err := d.Decode(&f); err != nil {
		return nil, usual, fmt.Errorf("this is not a message in JSON: %w", err)
	}
	if f.Ends == "" {
		f.Ends = "\r"
	}
	if f.Ends != "\r" && f.Ends != "\n" && f.Ends != "\r\n" {
		return nil, usual, fmt.Errorf("segments end with CR, LF or CR LF, not with %q", f.Ends)
	}
	sep := usual
	var out []byte
	for n, s := range f.Segments {
		var err error
		begin := len(out)
		if out, sep, err = fromSegment(out, s, sep); err == nil && bytes.IndexByte(out[begin:], f.Ends[0]) >= 0 {
			err = fmt.Errorf("a raw value holds the end of a segment")
		}
		if err != nil {
			return nil, usual, fmt.Errorf("segment %d: %w", n+1, err)
		}
		out = append(out, f.Ends...)
	}
	if len(out) == 0 {
		return nil, usual, fmt.Errorf("there are no segments")
	}
	return out, sep, nil
}

func fromSegment(out []byte, s []json.RawMessage, sep Separators) ([]byte, Separators, error) {
	var name, field, others string
	if len(s) == 0 || json.Unmarshal(s[0], &name) != nil || !segmentName(name) {
		return out, sep, fmt.Errorf("the first element of a segment is its name, such as \"PID\"")
	}
	out = append(out, name...)
	fields := s[1:]
	if header([]byte(name)) {
		if len(s) < 3 || json.Unmarshal(s[1], &field) != nil || json.Unmarshal(s[2], &others) != nil {
			return out, sep, fmt.Errorf("%s must name its separators: \"|\", \"^~\\\\&\"", name)
		}
		var problem string
		if sep, problem = separators([]byte("MSH" + field + others + field)); problem != "" {
			return out, sep, fmt.Errorf("its separators cannot be read: %s", problem)
		}
		out = append(append(out, field...), others...)
		fields = s[3:]
	}
	for i, f := range fields {
		out = append(out, sep.Field)
		var err error
		if out, err = fromValue(out, f, sep, sep.Repetition, sep.Component, sep.Subcomponent); err != nil {
			return out, sep, fmt.Errorf("%s, element %d: %w", name, i+len(s)-len(fields), err)
		}
	}
	return out, sep, nil
}

// fromValue writes a field, or what is left of it below the separators given.
func fromValue(out []byte, v json.RawMessage, sep Separators, by ...byte) ([]byte, error) {
	v = bytes.TrimSpace(v)
	switch {
	case string(v) == "null":
		return out, nil
	case v[0] == '"':
		var text string
		if err := json.Unmarshal(v, &text); err != nil {
			return out, err
		}
		return sep.Escapes().Append(out, []byte(text)), nil
	case v[0] == '{':
		var special struct {
			Repeat []json.RawMessage `json:"repeat"`
			Raw    *string           `json:"raw"`
		}
		d := json.NewDecoder(bytes.NewReader(v))
		d.DisallowUnknownFields()
		if err := d.Decode(&special); err != nil {
			return out, err
		}
		if special.Raw != nil {
			if bytes.IndexByte([]byte(*special.Raw), sep.Field) >= 0 {
				return out, fmt.Errorf("a raw value cannot hold field separators")
			}
			return append(out, *special.Raw...), nil
		}
		if len(by) < 3 || len(special.Repeat) == 0 {
			return out, fmt.Errorf("%s stands where there can be none", v)
		}
		return fromList(out, special.Repeat, sep, by)
	case v[0] == '[' && len(by) > 1:
		var list []json.RawMessage
		if err := json.Unmarshal(v, &list); err != nil {
			return out, err
		}
		if len(by) == 3 {
			by = by[1:]
		}
		return fromList(out, list, sep, by)
	case v[0] == '[' && len(by) == 1:
		var list []json.RawMessage
		if err := json.Unmarshal(v, &list); err != nil {
			return out, err
		}
		return fromList(out, list, sep, by)
	}
	return out, fmt.Errorf("%.40s is neither text nor a list nor null: numbers are written as text", v)
}

func fromList(out []byte, list []json.RawMessage, sep Separators, by []byte) ([]byte, error) {
	for i, e := range list {
		if i > 0 {
			out = append(out, by[0])
		}
		var err error
		if out, err = fromValue(out, e, sep, by[1:]...); err != nil {
			return out, err
		}
	}
	return out, nil
}

// Written is the character set that a message's MSH-18 names: UTF-8 if it names
// none, which is right only for ASCII. It is not ok if the set is not known.
func Written(message []byte) (text.Charset, bool) {
	sep, problem := separators(message)
	if problem != "" {
		return text.UTF8, true
	}
	line := message
	if i := bytes.IndexAny(message, "\r\n"); i >= 0 {
		line = message[:i]
	}
	set, ok := declaredCharset(line, sep)
	if set == "" {
		set = text.UTF8
	}
	return set, ok
}
