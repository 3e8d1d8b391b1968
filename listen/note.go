package listen

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"

	"ydrion/core/mail"
	"ydrion/files"
)

// notes begins the names of what lies hidden beside files about them.
const notes = "about-"

func noteAt(file string) string {
	return filepath.Join(filepath.Dir(file), files.Hidden, notes+filepath.Base(file))
}

// NoteMail keeps what a mail says of itself beside a file that was attached to it, which need not be there yet. It is
// durable when the hidden folder beside the file is.
func NoteMail(fsys files.FS, file string, head mail.Head) error {
	b, err := json.Marshal(head)
	if err != nil {
		return err
	}
	at := noteAt(file)
	if err := fsys.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	to, err := fsys.Create(at, 0o600)
	if err != nil {
		return err
	}
	_, err = to.Write(b)
	if err == nil {
		err = to.Sync()
	}
	return errors.Join(err, to.Close())
}

// NotedMail is what the mail says to which a file that waits was attached; nil if it came in none.
func NotedMail(fsys files.FS, file string) (*mail.Head, error) {
	in, err := fsys.Open(noteAt(file))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	b, err := io.ReadAll(in)
	if err = errors.Join(err, in.Close()); err != nil {
		return nil, err
	}
	out := &mail.Head{}
	if err := json.Unmarshal(b, out); err != nil {
		return nil, fmt.Errorf("what is known of the mail of %s cannot be read: %w", filepath.Base(file), err)
	}
	return out, nil
}

// SweepNotes removes what lies beside files that do not wait in a folder any more.
func SweepNotes(fsys files.FS, folder string) error {
	entries, err := fsys.List(filepath.Join(folder, files.Hidden))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		name, is := strings.CutPrefix(e.Name, notes)
		if !is {
			continue
		}
		if _, gone := fsys.Look(filepath.Join(folder, name)); errors.Is(gone, fs.ErrNotExist) {
			err = errors.Join(err, fsys.Remove(filepath.Join(folder, files.Hidden, e.Name)))
		}
	}
	return err
}
