package files

import "io/fs"

// Fenced asks before everything that leaves a mark whether it may still be done. A
// process that was stopped for a while wakes up in the middle of what it was doing,
// and must not go on with what has been given to another one meanwhile.
type Fenced struct {
	FS
	May func() error
}

func (f Fenced) Create(name string, mode fs.FileMode) (File, error) {
	if err := f.May(); err != nil {
		return nil, err
	}
	return f.FS.Create(name, mode)
}

func (f Fenced) Append(name string) (File, error) {
	if err := f.May(); err != nil {
		return nil, err
	}
	return f.FS.Append(name)
}

func (f Fenced) MakeFolder(name string, mode fs.FileMode) error {
	if err := f.May(); err != nil {
		return err
	}
	return f.FS.MakeFolder(name, mode)
}

func (f Fenced) Move(from, to string) error {
	if err := f.May(); err != nil {
		return err
	}
	return f.FS.Move(from, to)
}

func (f Fenced) Replace(from, to string) error {
	if err := f.May(); err != nil {
		return err
	}
	return f.FS.Replace(from, to)
}

func (f Fenced) Link(from, to string) error {
	if err := f.May(); err != nil {
		return err
	}
	return f.FS.Link(from, to)
}

func (f Fenced) Remove(name string) error {
	if err := f.May(); err != nil {
		return err
	}
	return f.FS.Remove(name)
}
