package files

import (
	"errors"
	"os"
)

// Unnamed makes a file without a name in a folder: it is gone when it is closed or its process ends, however that
// ends.
func Unnamed(folder string) (*os.File, error) {
	f, err := os.CreateTemp(folder, Hidden+"-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}
