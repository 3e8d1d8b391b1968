package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
)

// Step is one thing that was tried with a place.
type Step struct {
	What string        // in words
	Says string        // what was found, or why it did not work
	OK   bool          // it worked
	Took time.Duration // how long
}

// Try reaches a place, looks into a folder of it, and writes, renames, reads and removes a probe there. Name is that of the
// probe, which nobody else may use. The first step that fails ends it.
func Try(ctx context.Context, p *Places, place, folder, name string) (steps []Step) {
	do := func(what string, f func() (string, error)) bool {
		begun := time.Now()
		says, err := f()
		s := Step{What: what, Says: says, OK: err == nil, Took: time.Since(begun)}
		if err != nil {
			s.Says = err.Error()
		}
		steps = append(steps, s)
		return s.OK
	}
	begun := time.Now()
	if r, is := p.Report(place); is && r.Place.Messages() {
		// What is sent there is meant: nothing is tried with a probe.
		do("reach it", func() (string, error) {
			return "it answers; what it takes is seen when something is sent", p.Exchange(ctx, place, func(Exchange) error { return nil })
		})
		if r.Place.Kind == "http" && folder != "/" && steps[0].OK {
			do("get "+folder, func() (says string, err error) {
				err = p.With(ctx, place, func(t Tree) error {
					all, err := t.List(folder)
					if errors.Is(err, fs.ErrNotExist) {
						return fmt.Errorf("there is no such address (%s)", folder)
					}
					var names []string
					for _, i := range all {
						names = append(names, fmt.Sprintf("%s (%d bytes)", i.Name, i.Size))
					}
					if says = strings.Join(names, ", "); says == "" {
						says = "it answers that there is nothing (204)"
					}
					return err
				})
				return says, err
			})
		}
		return steps
	}
	err := p.With(ctx, place, func(t Tree) error {
		steps = append(steps, Step{What: "reach it", Says: "it lets us in", OK: true, Took: time.Since(begun)})
		if !do("look into "+folder, func() (string, error) {
			all, err := t.List(folder)
			if errors.Is(err, fs.ErrNotExist) {
				return "", fmt.Errorf("there is no folder %s", folder)
			}
			if _, mails := t.(Mails); mails && err == nil {
				return strings.NewReplacer("files", "mails", "folders", "mailboxes in it").Replace(counted(all)), nil
			}
			return counted(all), err
		}) {
			return nil
		}
		if _, mails := t.(Mails); mails {
			return nil
		}
		at, to := path.Join(folder, name), path.Join(folder, name+"-renamed")
		probe := strings.Repeat("a probe, which can be removed\n", 10)
		o, objects := t.(Objects)
		if !do("write a probe", func() (string, error) {
			if objects {
				return "", o.Put(at, strings.NewReader(probe), int64(len(probe)), name, false)
			}
			return "", t.Write(at, 0, &text{strings.NewReader(probe), int64(len(probe))})
		}) {
			return nil
		}
		there := at
		if !objects && do("rename it", func() (string, error) { return "", t.Move(at, to) }) {
			there = to
			do("not replace what is there", func() (string, error) {
				if err := t.Write(at, 0, &text{strings.NewReader("another"), 7}); err != nil {
					return "", err
				}
				err := t.Move(at, to)
				if err == nil {
					there = to
					return "", errors.New("the server replaced a file although it was asked not to")
				}
				if !errors.Is(err, fs.ErrExist) {
					return "", err
				}
				return "", t.Remove(at)
			})
		}
		if objects {
			do("not replace what is there", func() (string, error) {
				err := o.Put(at, strings.NewReader("another"), 7, "", false)
				if err == nil {
					return "", errors.New("the server replaced a file although it was asked not to")
				}
				if errors.Is(err, fs.ErrExist) {
					err = nil
				}
				return "", err
			})
		}
		do("read it", func() (string, error) {
			r, err := t.Open(there, 0)
			if err != nil {
				return "", err
			}
			b, err := io.ReadAll(r)
			if err := errors.Join(err, r.Close()); err != nil {
				return "", err
			}
			if string(b) != probe {
				return "", errors.New("what was read is not what was written")
			}
			return "", nil
		})
		do("remove it", func() (string, error) { return "", t.Remove(there) })
		return nil
	})
	if err != nil && len(steps) == 0 {
		steps = append(steps, Step{What: "reach it", Says: err.Error(), Took: time.Since(begun)})
	}
	return steps
}

// text is a reader that says how much there is to read.
type text struct {
	io.Reader
	size int64
}

func (t *text) Size() int64 { return t.size }

// counted says how much there is in a folder.
func counted(all []Info) string {
	files, folders, others, odd := 0, 0, 0, ""
	for _, i := range all {
		switch {
		case i.Odd != "":
			others, odd = others+1, i.Name
		case i.Folder:
			folders++
		default:
			files++
		}
	}
	said := fmt.Sprintf("%d files and %d folders", files, folders)
	if others > 0 {
		said += fmt.Sprintf(", and %d that cannot be taken, such as %q", others, odd)
	}
	return said
}
