package formats

import (
	"archive/zip"
	"fmt"
	"io"
	"strings"

	"ydrion/core/text"
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

// OpenMember opens a file in a zip archive: of that name, or the only one. What
// grows beyond belief ends with text.ErrBomb.
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
			return nil, "", fmt.Errorf("zip: %s: %w", name, err)
		}
		return struct {
			io.Reader
			io.Closer
		}{text.Bounded(in, int64(f.CompressedSize64)), in}, name, nil
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
