package run

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"ydrion/core/flow"
	"ydrion/core/lang"
	"ydrion/deliver"
)

// MostHead is how much of a file that goes on unread is looked at, in bytes.
const MostHead = 64 << 10

// TypeOf says what a file is by what it begins with: a media type (RFC 6838), found as browsers do
// (WHATWG MIME Sniffing).
func TypeOf(head []byte) string {
	kind, _, _ := strings.Cut(http.DetectContentType(head), ";")
	return kind
}

// unread finds out what names and conditions may say of a file that goes on unread: its type, its size
// and, if they want one, its number.
func unread(env *lang.Env, file *bufio.Reader, size int64, plan *flow.Plan, inputs flow.Inputs) error {
	err := look(&env.Facts, file, size)
	if err == nil && plan.Sequence && inputs.Sequence != nil {
		env.Seq, err = inputs.Sequence(1)
	}
	return err
}

// look finds out what a file is by what it begins with.
func look(f *lang.Facts, file *bufio.Reader, size int64) error {
	head, err := file.Peek(file.Size())
	if err != nil && err != io.EOF {
		return fmt.Errorf("reading the original: %w", err)
	}
	f.Head = bytes.Clone(head) // it is read on
	f.Type, f.Size = TypeOf(head), size
	return nil
}

// alive tells that a long copy goes on.
type alive struct {
	io.Reader
	o *outputs
}

func (a alive) Read(b []byte) (int, error) {
	a.o.beat.Store(time.Now().UnixNano())
	return a.Reader.Read(b)
}

// passUnread gives a file that nobody reads to its destinations.
func (c *Conductor) passUnread(d *outcome, out *outputs, inputs flow.Inputs) error {
	original, err := c.original(d.item)
	if err != nil {
		return err
	}
	defer original.Close()
	read := bufio.NewReaderSize(original, int(min(max(d.Size, 512), MostHead))) // its beginning is looked at
	env := &lang.Env{Facts: d.facts(inputs.Facts)}
	if err := unread(env, read, d.Size, d.compiled.Plan, inputs); err != nil {
		return err
	}
	if err := out.turnTo(d.item); err != nil {
		return err
	}
	if f := out.nameAll(env); f != nil {
		d.refuse(*f)
		return nil
	}
	counted := &counting{Reader: read}
	if err = out.copy(counted, 1); err == nil {
		d.result.In, d.result.Good, d.result.Bytes = 1, 1, counted.n
	}
	return err
}

// counting counts what is read.
type counting struct {
	io.Reader
	n int64
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.n += int64(n)
	return n, err
}

// copy writes a file with so many records into all outputs, as it is.
func (o *outputs) copy(original io.Reader, records int64) (err error) {
	to := &o.branches[0]
	to.all = make([]*deliver.Output, len(o.folders))
	var written []io.Writer
	var first *deliver.Output
	for i, folder := range o.folders {
		if o.fileNames[i] == "" {
			continue
		}
		if to.all[i], err = o.create(folder, o.label(fmt.Sprintf("file-%d", i))); err != nil {
			return err
		}
		if len(written) > 0 {
			to.all[i].Like(first)
		} else {
			first = to.all[i]
		}
		written = append(written, to.all[i])
	}
	if _, err = io.Copy(io.MultiWriter(written...), alive{original, o}); err != nil {
		return err
	}
	for i, out := range to.all {
		if out == nil {
			continue
		}
		to.all[i] = nil
		if err := o.add(out, "good", i, o.fileNames[i], records, 1); err != nil {
			return err
		}
	}
	to.all = nil
	return nil
}
