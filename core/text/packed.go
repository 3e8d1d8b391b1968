package text

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/flate"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
)

// Packing is how a file is compressed.
type Packing string

// The packings.
const (
	Unpacked Packing = "none"
	Gzip     Packing = "gzip"
	Zip      Packing = "zip" // an archive
)

// ErrBomb says that compressed data holds more than can be believed.
var ErrBomb = errors.New("the compressed data grows too much: it is not undone any further")

// growth is how much compressed data may hold, for each byte of it.
const growth = 1100

// Damaged says that compressed data cannot be undone: it is not whole, or not what it says.
type Damaged struct{ err error }

func (d *Damaged) Error() string { return "the compressed data is damaged: " + d.err.Error() }
func (d *Damaged) Unwrap() error { return d.err }

// Undo takes gzip away (RFC 1952). What is not compressed data is given as it is, and so is a zip
// archive: its members are opened by themselves.
func Undo(in io.Reader) (io.Reader, Packing, error) {
	head := make([]byte, 4)
	n, err := io.ReadFull(in, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, "", err
	}
	head = head[:n]
	r := io.MultiReader(bytes.NewReader(head), in)
	switch {
	case len(head) > 2 && head[0] == 0x1f && head[1] == 0x8b:
		counted := &counter{Reader: bufio.NewReaderSize(r, 64<<10)}
		z, err := gzip.NewReader(counted)
		if err != nil {
			return nil, "", &Damaged{fmt.Errorf("gzip: %w", err)}
		}
		return &limited{in: z, from: counted}, Gzip, nil
	case string(head) == "PK\x03\x04", string(head) == "PK\x05\x06": // APPNOTE, 4.3.7 and 4.3.16: a member, or the end of an archive without any
		return r, Zip, nil
	}
	return r, Unpacked, nil
}

// Bounded ends with ErrBomb when data that was so many bytes compressed grows beyond belief.
func Bounded(in io.Reader, compressed int64) io.Reader {
	return &limited{in: in, from: &counter{n: compressed}}
}

type counter struct {
	io.Reader
	n int64
}

func (c *counter) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.n += int64(n)
	return n, err
}

// limited ends when compressed data grows beyond belief.
type limited struct {
	in   io.Reader
	from *counter
	n    int64
}

func (l *limited) Read(b []byte) (int, error) {
	n, err := l.in.Read(b)
	if l.n += int64(n); l.n > 1<<20+growth*l.from.n {
		return 0, ErrBomb
	}
	var corrupt flate.CorruptInputError
	if errors.Is(err, zip.ErrChecksum) || errors.Is(err, zip.ErrFormat) || errors.Is(err, gzip.ErrChecksum) || errors.Is(err, gzip.ErrHeader) || errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &corrupt) {
		err = &Damaged{err}
	}
	return n, err
}
