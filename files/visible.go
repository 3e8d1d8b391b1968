package files

import (
	"path/filepath"
	"strings"
)

// Visible counts the files in a folder and in those below it, but for hidden ones. What cannot be looked into has none.
func Visible(fs FS, folder string) int { return visible(fs, folder, 30) }

func visible(fs FS, folder string, deep int) (n int) {
	entries, err := fs.List(folder)
	if err != nil || deep == 0 {
		return 0
	}
	for _, e := range entries {
		switch {
		case strings.HasPrefix(e.Name, "."):
		case e.Mode.IsDir():
			n += visible(fs, filepath.Join(folder, e.Name), deep-1)
		default:
			n++
		}
	}
	return n
}
