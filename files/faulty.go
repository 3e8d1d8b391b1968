package files

import (
	"io/fs"
	"sync/atomic"
)

// Faulty passes every call on, counts it, and lets a test make it fail.
type Faulty struct {
	FS
	Calls atomic.Int64
	// Fail is asked before each call, with its number, the operation and the
	// name; an error is returned instead of making the call.
	Fail func(call int64, operation, name string) error
}

func (f *Faulty) step(operation, name string) error {
	n := f.Calls.Add(1)
	if f.Fail == nil {
		return nil
	}
	return f.Fail(n, operation, name)
}

func (f *Faulty) Open(name string) (File, error) {
	if err := f.step("open", name); err != nil {
		return nil, err
	}
	return f.FS.Open(name)
}

func (f *Faulty) Create(name string, mode fs.FileMode) (File, error) {
	if err := f.step("create", name); err != nil {
		return nil, err
	}
	file, err := f.FS.Create(name, mode)
	if err != nil {
		return nil, err
	}
	return &faultyFile{file, f, name}, nil
}

func (f *Faulty) Append(name string) (File, error) {
	if err := f.step("append", name); err != nil {
		return nil, err
	}
	file, err := f.FS.Append(name)
	if err != nil {
		return nil, err
	}
	return &faultyFile{file, f, name}, nil
}

func (f *Faulty) MakeFolder(name string, mode fs.FileMode) error {
	if err := f.step("make folder", name); err != nil {
		return err
	}
	return f.FS.MakeFolder(name, mode)
}

func (f *Faulty) Move(from, to string) error {
	if err := f.step("move", from); err != nil {
		return err
	}
	return f.FS.Move(from, to)
}

func (f *Faulty) Replace(from, to string) error {
	if err := f.step("replace", from); err != nil {
		return err
	}
	return f.FS.Replace(from, to)
}

func (f *Faulty) Own(name string, mode fs.FileMode, owner string) error {
	if err := f.step("own", name); err != nil {
		return err
	}
	return f.FS.Own(name, mode, owner)
}

func (f *Faulty) SyncAll(folder string) error {
	if err := f.step("sync all", folder); err != nil {
		return err
	}
	return f.FS.SyncAll(folder)
}

func (f *Faulty) Link(from, to string) error {
	if err := f.step("link", from); err != nil {
		return err
	}
	return f.FS.Link(from, to)
}

func (f *Faulty) Remove(name string) error {
	if err := f.step("remove", name); err != nil {
		return err
	}
	return f.FS.Remove(name)
}

func (f *Faulty) SyncFolder(name string) error {
	if err := f.step("sync folder", name); err != nil {
		return err
	}
	return f.FS.SyncFolder(name)
}

func (f *Faulty) Free(name string) (string, bool, error) {
	if err := f.step("free", name); err != nil {
		return "", false, err
	}
	return f.FS.Free(name)
}

type faultyFile struct {
	File
	f    *Faulty
	name string
}

func (f *faultyFile) Write(b []byte) (int, error) {
	if err := f.f.step("write", f.name); err != nil {
		return 0, err
	}
	return f.File.Write(b)
}

func (f *faultyFile) Sync() error {
	if err := f.f.step("sync", f.name); err != nil {
		return err
	}
	return f.File.Sync()
}
