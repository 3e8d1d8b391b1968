package flow

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"ydrion/core/finding"
	"ydrion/core/place"
	"ydrion/core/text"
)

// seekable is what an archive is read from: its list of members stands at its end.
type seekable interface {
	io.Reader
	io.ReaderAt
	io.Seeker
}

// Unclosed is what is read, without being closed.
func Unclosed(in io.Reader) io.ReadCloser {
	if at, is := in.(seekable); is {
		return struct {
			seekable
			io.Closer
		}{at, io.NopCloser(nil)}
	}
	return io.NopCloser(in)
}

// Packed tells whether files are compressed.
func (p *Plan) Packed() bool { return p.Packing != "" && p.Packing != text.Unpacked }

// undo takes compression and encoding away. A finding says that the file
// is not compressed as it should be.
func (p *Plan) undo(in io.Reader) (*text.Decoded, *finding.Finding, error) {
	fail := func(code, says, suggestion string) (*text.Decoded, *finding.Finding, error) {
		f := finding.New(code, place.Place{Line: 1, Column: 1}, "%s", says).Suggest("%s", suggestion)
		return nil, &f, nil
	}
	plain, how, err := text.Undo(in)
	member := ""
	var damaged *text.Damaged
	switch {
	case errors.As(err, &damaged):
		f := damage(err)
		return nil, &f, nil
	case err != nil:
		return nil, nil, fmt.Errorf("reading: %w", err)
	case how != text.Unpacked && how != p.Packing:
		return fail("file.compressed", map[text.Packing]string{text.Gzip: "the file is compressed with gzip", text.Zip: "the file is a zip archive"}[how],
			"set compression: "+string(how)+" in the read part of the route")
	case how != p.Packing && p.Packed():
		return fail("file.compressed", "the file is not "+map[text.Packing]string{text.Gzip: "compressed with gzip", text.Zip: "a zip archive"}[p.Packing]+", as the route says",
			"ask for it as it was agreed, or let another route take what is not compressed")
	case how == text.Zip:
		at, size := io.ReaderAt(nil), int64(0)
		if file, is := in.(seekable); is {
			if end, err := file.Seek(0, io.SeekEnd); err == nil {
				at, size = file, end
			}
		}
		if at == nil { // it comes as a stream
			content, err := io.ReadAll(io.LimitReader(plain, mostStreamed+1))
			if err != nil {
				return nil, nil, fmt.Errorf("reading: %w", err)
			}
			if len(content) > mostStreamed {
				return fail("file.member", fmt.Sprintf("an archive that does not come as a file, but as a stream, may have %d MiB at most", mostStreamed>>20), "give the file itself")
			}
			at, size = bytes.NewReader(content), int64(len(content))
		}
		var problem string
		if member, problem = text.ChosenMember(at, size, p.Member); problem != "" {
			return fail("file.member", problem, "say which by member in the read part of the route, or have it packed otherwise")
		}
		if plain, _, err = text.OpenMember(at, size, member); err != nil {
			return fail("file.member", err.Error(), "ask for it again")
		}
	}
	decoded, err := text.Decode(plain, p.Charset)
	if errors.As(err, &damaged) {
		f := damage(err)
		return nil, &f, nil
	}
	if err != nil {
		return nil, nil, fmt.Errorf("reading: %w", err)
	}
	decoded.Member = member
	return decoded, nil, nil
}

// mostStreamed is how large an archive may be whose end cannot be looked at first.
const mostStreamed = 64 << 20

// damage is the finding of compressed data that cannot be undone to its end.
func damage(err error) finding.Finding {
	return finding.New("file.damaged", place.Place{Line: 1, Column: 1}, "%v", err).Suggest("the file may not be whole: ask for it again")
}
