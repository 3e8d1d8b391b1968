package hl7

import (
	"bytes"
	"strconv"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/segments"
	"ydrion/core/shape"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// MaxMessage is the longest message that is read.
const MaxMessage = 64 << 20

// Source says how files of messages are read.
type Source struct {
	// Unit is the segment that is a record by itself, with what stands around it
	// in its message as context. Without one the message is the record.
	Unit string
	// Marked says that values go on into HL7: escape sequences that are not text are kept as such.
	Marked bool

	own []*standard.Catalog // descriptions besides those of the standard, see format.Described
}

// bound is what is wanted of messages.
type bound struct {
	*segments.Wanted
	marked bool                // see Source
	own    []*standard.Catalog // see Source
}

// Open looks for the first message.
func (s *bound) Open(in *text.Decoded) (format.Reader, finding.List, error) {
	r := &Reader{bound: s, Stream: format.Stream{In: in, Line: 1}, declared: in.Charset == text.Declared, charset: in.Charset}
	buf, err := r.Fill(nil, ahead)
	if err != nil {
		return nil, nil, err
	}
	if f := r.begin(buf); f != nil {
		return nil, finding.List{*f}, nil
	}
	return r, nil, nil
}

// Reader reads one file of messages. Cut keeps the state of the stream; Split
// only reads what Open has set.
type Reader struct {
	format.Stream
	*bound
	declared bool // the text is as it came: MSH-18 says how to read it
	charset  text.Charset

	blocks  bool // the file begins with a block of MLLP: each message must end as one
	batches bool // the file begins with FHS or BHS: counts may follow
	count   counts
	opening opening // what is open where it has been cut to
	ended   finding.List
	firsts  segments.Firsts
	misread format.Misread

	rare int // index of the letter of MSH that is rarest

	kin           *segments.Kin // of the message of which a unit was asked for last
	kinOf, kinEnd int64         // where that stands
}

// counts is what has come of a file with batch segments.
type counts struct {
	messages, batches int64 // since the last BHS; since FHS
	open              bool  // a BHS without its BTS
	file              bool  // an FHS without its FTS
	loose             bool  // since FHS no BHS has come
}

// Bind finds out which segments the wanted fields are in. Fields are positions such as PID-3.1; a
// field's path says which, or its name. Lists are segments or, for the repetitions of a field, positions.
func (s Source) Bind(of shape.Shape) (format.Bound, finding.List) {
	var unit *segments.Position
	if s.Unit != "" {
		unit = &segments.Position{Segment: s.Unit}
	}
	r := &bound{Wanted: segments.NewWanted(unit), marked: s.Marked, own: s.own}
	out := r.Add(of, segments.Demand{Code: "hl7.position", Parse: parsePath, Subs: true, Unknown: func(p segments.Position) (problem, near string) {
		if p.Segment[0] == 'Z' {
			return "", ""
		}
		return segments.Unknown(p, Versions, true)
	}, Belongs: func(segment, to string) bool {
		return segment[0] == 'Z' || to[0] == 'Z' || segments.Belongs(segment, to, Versions)
	}})
	if out.HasErrors() {
		return nil, out
	}
	return r, out
}

// Survey calls f for the values of a message. Repeated segments and fields are not
// told apart.
func (r *Reader) Survey(raw []byte, f func(path, value []byte)) {
	sep, problem := separators(raw)
	if problem != "" {
		return
	}
	path, plain := make([]byte, 0, 16), make([]byte, 0, 256)
	terminator := terminatorOf(raw)
	if r.declared && (!text.IsASCII(raw) || bytes.IndexByte(raw, escape) >= 0) {
		line, _, _ := bytes.Cut(raw, []byte{terminator})
		if set, _ := declaredCharset(line, sep); set != "" && set != text.UTF8 {
			if decoded, err := text.DecodeAll(raw, set); err == nil {
				raw = decoded
			}
		}
	}
	for p := 0; p < len(raw); {
		stop, next := segmentEnd(raw, p, terminator)
		line := raw[p:stop]
		p = next
		if len(line) < 4 || !nameAt(line, 0) {
			continue
		}
		segment := append(path[:0], line[:3]...)
		segment = append(segment, '-')
		number := 0
		fields := line[4:]
		if string(line[:3]) == "MSH" || string(line[1:3]) == "HS" { // their first field is the separator, the second the others
			number = 2
			_, fields, _ = bytes.Cut(fields, []byte{sep.Field})
		}
		for more := true; more; {
			var field []byte
			field, fields, more = bytes.Cut(fields, []byte{sep.Field})
			if number++; len(field) == 0 {
				continue
			}
			at := strconv.AppendInt(segment, int64(number), 10)
			for again := true; again; {
				var repetition []byte
				repetition, field, again = bytes.Cut(field, []byte{sep.Repetition})
				parts(at, repetition, []byte{sep.Component, sep.Subcomponent}, func(path, value []byte) {
					if bytes.IndexByte(value, sep.Escape) >= 0 {
						plain, _ = sep.AppendUnescaped(plain[:0], value)
						value = plain
					}
					f(path, value)
				})
			}
		}
	}
}

// parts calls f for the pieces of a value that are there, with their numbers behind
// its path if there are several.
func parts(path, value, separators []byte, f func(path, value []byte)) {
	switch {
	case len(value) == 0:
		return
	case len(separators) == 0 || bytes.IndexByte(value, separators[0]) < 0 && len(separators) == 1:
		f(path, value)
		return
	case bytes.IndexByte(value, separators[0]) < 0:
		if bytes.IndexByte(value, separators[1]) < 0 {
			f(path, value)
			return
		}
	}
	for n, more := 1, true; more; n++ {
		var piece []byte
		piece, value, more = bytes.Cut(value, separators[:1])
		parts(strconv.AppendInt(append(path, '.'), int64(n), 10), piece, separators[1:], f)
	}
}

// Finish says whether the counts of batches agree with what came, of which segments only the first was taken, and whether a character set is not that of
// the text.
func (r *Reader) Finish(int64) finding.List {
	ended := append(r.ended, r.Stream.Misread(&r.misread, "MSH-18", "UNICODE UTF-8")...)
	return append(ended, r.firsts.Findings(r.Wanted, "hl7.first-only", "hl7.cut-off")...)
}

// Heading is empty: messages bring their own.
func (r *Reader) Heading() []byte { return nil }

// Preface is empty: each message says all that is needed to read it.
func (r *Reader) Preface(*batch.Batch, int) []byte { return nil }
