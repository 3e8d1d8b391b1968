package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	"github.com/spf13/cobra"

	"ydrion/core/flow"
	"ydrion/core/formats"
	"ydrion/core/text"
)

var routeName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

func (a *app) fresh() *cobra.Command {
	var folder string
	var dry bool
	var known stated
	c := a.jsonFlag(&cobra.Command{
		Use:   "new ROUTE FILE",
		Short: "Write a first route for files such as one that you have",
		Long: `Look at a file and write a first route into a workspace for files such as it: how they are
read, a schema with the types that its values have (or, for HL7 v2, X12 and EDIFACT, the standard), and a map
that passes good records on as they came. What was guessed is printed; look at it.

Nothing is overwritten. With --dry-run nothing is written at all: the files are printed.`,
		Example: `  ydrion new seal-sheets demo/files/brunholm-2026-11-23.csv --workspace seals
  ydrion new results results.hl7 --dry-run
  ydrion new weights sheet.txt --encoding windows-1252 --delimiter ";"`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, from := args[0], args[1]
			if !routeName.MatchString(name) {
				return wrongUse("a route's name is made of small letters, digits and hyphens, not %q", name)
			}
			request := formats.Request{Byte: -1, Name: from}
			var err error
			if request.Known, err = known.known(); err != nil {
				return err
			}
			in, err := os.Open(from)
			if err != nil {
				return wrongUse("the file cannot be opened: %v", err)
			}
			defer in.Close()
			if tell := a.progress(); tell != nil {
				request.Progress = func(n int64) { tell(flow.Progress{Balance: flow.Balance{Bytes: n}}) }
			}
			var content few
			reads, member := io.Reader(io.TeeReader(in, &content)), ""
			if size, err := in.Seek(0, io.SeekEnd); err == nil {
				if _, archive := text.Members(in, size); archive {
					var problem string
					if member, problem = text.ChosenMember(in, size, nil); problem != "" {
						return wrongUse("%s: unpack the file that is meant, and name it by `member` in the route", problem)
					}
					opened, _, err := text.OpenMember(in, size, member)
					if err != nil {
						return wrongUse("%v", err)
					}
					defer opened.Close()
					reads = opened
				}
				if _, err := in.Seek(0, io.SeekStart); err != nil {
					return wrongUse("the file cannot be read: %v", err)
				}
			}
			look, err := formats.Examine(cmd.Context(), reads, request)
			if err != nil {
				return err
			}
			if member != "" {
				look.Compression = string(text.Zip)
				if _, err := io.Copy(&content, in); err != nil {
					return err
				}
			}
			sample := "samples/" + filepath.Base(from)
			if len(content) > mostSample {
				sample = ""
			}
			begun, err := look.Begin(name, sample, member)
			if err != nil {
				return err
			}
			if sample != "" {
				begun.Files[sample] = string(content)
			} else {
				begun.Guesses = append(begun.Guesses, fmt.Sprintf("the file has more than %d bytes and is not kept as a sample: take some of its records, and name them in read.sample", mostSample))
			}
			if there, err := filepath.Glob(filepath.Join(folder, "environments", "*.yaml")); err == nil && len(there) > 0 {
				delete(begun.Files, "environments/local.yaml")
			}
			if !dry {
				if err := writeNew(folder, begun.Files); err != nil {
					return err
				}
			}
			delete(begun.Files, sample)
			if a.json {
				return a.printJSON(begun)
			}
			for _, file := range slices.Sorted(maps.Keys(begun.Files)) {
				if dry {
					fmt.Fprintf(a.out, "--- %s\n%s\n", file, begun.Files[file])
				} else {
					fmt.Fprintf(a.out, "written: %s\n", filepath.Join(folder, file))
				}
			}
			for _, g := range begun.Guesses {
				fmt.Fprintf(a.out, "  - %s\n", g)
			}
			if !dry {
				fmt.Fprintf(a.out, "\nThen:\n  ydrion check %s\n  ydrion try %s %s --workspace %[1]s\n", folder, name, from)
			}
			return nil
		},
	})
	f := c.Flags()
	f.StringVarP(&folder, "workspace", "w", ".", "folder of the workspace; it is made if it is not there")
	f.BoolVar(&dry, "dry-run", false, "print the files instead of writing them")
	known.flags(c)
	return c
}

// mostSample is how large a file may be that is kept as a sample.
const mostSample = 256 << 10

// few keeps what is written to it, and no more than tells that it is too much.
type few []byte

func (f *few) Write(b []byte) (int, error) {
	*f = append(*f, b[:min(len(b), mostSample+1-len(*f))]...)
	return len(b), nil
}

// writeNew writes files that are not there, or none if one is.
func writeNew(folder string, files map[string]string) error {
	names := slices.Sorted(maps.Keys(files))
	for _, name := range names {
		there, err := os.ReadFile(filepath.Join(folder, name))
		if err == nil && string(there) != files[name] {
			return wrongUse("%s is there already, and is not overwritten", filepath.Join(folder, name))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for _, name := range names {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(files[name]), 0o644); err != nil {
			return err
		}
	}
	return nil
}
