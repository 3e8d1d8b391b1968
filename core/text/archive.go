package text

import (
	"archive/zip"
	"fmt"
	"io"
	"path"
	"strings"
)

// Member is a file in a zip archive.
type Member struct {
	Name string `json:"name"`
	Size int64  `json:"size" doc:"as the archive says"`
}

// Members lists the files in a zip archive of a size. It is not ok if there is no
// archive.
func Members(at io.ReaderAt, size int64) (list []Member, ok bool) {
	z, err := zip.NewReader(at, size)
	if err != nil {
		return nil, false
	}
	for _, f := range z.File {
		if !strings.HasSuffix(f.Name, "/") {
			list = append(list, Member{f.Name, int64(f.UncompressedSize64)})
		}
	}
	return list, true
}

// ChosenMember finds the member of a zip archive that fits, nil: any does. What file managers put beside files is none.
// The problem says why there is not one.
func ChosenMember(at io.ReaderAt, size int64, fits func(name string) bool) (name, problem string) {
	list, ok := Members(at, size)
	if !ok {
		return "", "the archive is damaged, or not whole: its list of members cannot be read"
	}
	var names []string
	for _, m := range list {
		if strings.HasPrefix(m.Name, "__MACOSX/") || strings.HasPrefix(path.Base(m.Name), ".") {
			continue
		}
		if fits == nil || fits(m.Name) {
			name = m.Name
			names = append(names, Readable(m.Name))
		}
	}
	switch len(names) {
	case 1:
		return name, ""
	case 0:
		if len(list) == 0 {
			return "", "the archive has no members"
		}
		for _, m := range list {
			names = append(names, Readable(m.Name))
		}
		return "", "none of the archive's members is one that the route reads: " + few(names)
	}
	return "", fmt.Sprintf("the archive has %d members that the route would read, and it reads one: %s", len(names), few(names))
}

// few names some, and says how many there are besides.
func few(names []string) string {
	const shown = 5
	if len(names) <= shown {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:shown], ", "), len(names)-shown)
}

// OpenMember opens a file in a zip archive: of that name, or the only one. What
// grows beyond belief ends with ErrBomb.
func OpenMember(at io.ReaderAt, size int64, name string) (io.ReadCloser, string, error) {
	z, err := zip.NewReader(at, size)
	if err != nil {
		return nil, "", fmt.Errorf("zip: %w", err)
	}
	list, _ := Members(at, size)
	if name == "" && len(list) == 1 {
		name = list[0].Name
	}
	same := 0
	for _, f := range z.File {
		if f.Name == name && name != "" {
			same++
		}
	}
	if same > 1 {
		return nil, "", fmt.Errorf("the archive has %d members called %q: which one is meant cannot be told; have it packed anew", same, name)
	}
	for _, f := range z.File {
		if f.Name != name || name == "" {
			continue
		}
		if f.Flags&1 != 0 { // APPNOTE, 4.4.4: bit 0
			return nil, "", fmt.Errorf("the member %q is encrypted: unpack it first", name)
		}
		in, err := f.Open()
		if err != nil {
			return nil, "", fmt.Errorf("zip: %q: %w", name, err)
		}
		return struct {
			io.Reader
			io.Closer
		}{Bounded(in, int64(f.CompressedSize64)), in}, name, nil
	}
	names := make([]string, len(list))
	for i, m := range list {
		names[i] = m.Name
	}
	if name == "" && len(list) == 1 {
		return nil, "", fmt.Errorf("the only member of the archive has no name: have it packed anew")
	}
	if len(list) == 0 {
		return nil, "", fmt.Errorf("the archive has no members")
	}
	if name == "" {
		return nil, "", fmt.Errorf("the archive has %d members: name one of %s", len(list), strings.Join(names, ", "))
	}
	return nil, "", fmt.Errorf("the archive has no member %q; it has %s", name, strings.Join(names, ", "))
}
