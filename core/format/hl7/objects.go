package hl7

import (
	"bytes"
	"errors"
	"unicode/utf8"

	"ydrion/core/batch"
	"ydrion/core/format"
	"ydrion/core/text"
)

// speaker says messages as objects, or writes objects as messages. It keeps the separators that
// were named last: by a message, and by what stands around messages, which has its own.
type speaker struct{ sep, border Separators }

func (s *speaker) objects(_ format.Reader, b *batch.Batch, wanted func(int) bool, say func(int, []byte, error)) {
	at := 0
	around := func(to int) {
		segments := bytes.Trim(b.Buf[at:to], "\r\n\x0b\x1c \t")
		if len(segments) == 0 {
			return
		}
		out, sep, err := AppendJSON(nil, segments, s.border)
		s.border = sep
		if err == nil && !utf8.Valid(segments) {
			err = errors.New("it is not UTF-8")
		}
		say(-1, out, err)
	}
	if b.Records() == 0 {
		return
	}
	for i, bounds := range b.Bounds {
		around(int(bounds.Off))
		if at = int(bounds.End); wanted(i) {
			out, err := s.object(b.Raw(i))
			say(i, out, err)
		}
	}
	around(b.N)
}

// object says a message.
func (s *speaker) object(message []byte) (out []byte, err error) {
	set, ok := Written(message)
	if !ok {
		return nil, errors.New("its character set is not known")
	}
	if set != text.UTF8 {
		if message, err = text.DecodeAll(message, set); err != nil {
			return nil, err
		}
	}
	out, sep, err := AppendJSON(nil, message, s.sep)
	if err == nil {
		s.sep = sep
	}
	return out, err
}

// message writes an object as a message, or as segments that stand around messages.
func (s *speaker) message(to, object []byte) ([]byte, error) {
	message, sep, err := FromJSON(object, s.sep)
	if err != nil {
		return to, err
	}
	switch name := string(message[:min(3, len(message))]); name {
	case "FHS", "BHS":
		s.border = sep
	case "BTS", "FTS":
		if message, s.border, err = FromJSON(object, s.border); err != nil {
			return to, err
		}
	default:
		s.sep = sep
	}
	set, ok := Written(message)
	if !ok {
		return to, errors.New("its MSH-18 names a character set that is not known")
	}
	if message, err = text.Encode(message, set); err != nil {
		return to, err
	}
	return append(to, message...), nil
}
