package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"ydrion/core/finding"
	"ydrion/core/lang"
)

// format writes maps as maps are written.
func (a *app) format() *cobra.Command {
	var check bool
	c := a.jsonFlag(&cobra.Command{
		Use:   "format MAP...",
		Short: "Write maps in the one form: indented, spaced and aligned alike",
		Long: `Write maps in the one form: two blanks for each block, one between words, equals signs under
each other. What a map says stays the same, and so do its comments. MAP may be a workspace, whose
maps are meant, or - for standard input, which goes to standard output.

With --check nothing is written: maps that would change are named, and the exit code is 1 if there
are some.`,
		Example: "  ydrion format demo/workspace\n  ydrion format --check demo/workspace/maps/*.map\n  ydrion format - < draft.map",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			var files []string
			for _, arg := range args {
				if about, err := os.Stat(arg); err == nil && about.IsDir() {
					maps, _ := filepath.Glob(filepath.Join(arg, "maps", "*.map"))
					if maps == nil {
						return wrongUse("%s has no maps (maps/*.map)", arg)
					}
					files = append(files, maps...)
					continue
				}
				files = append(files, arg)
			}
			changed, wrong := []string{}, finding.List{}
			for _, file := range files {
				differs, findings, err := a.formatted(file, check)
				if err != nil {
					return err
				}
				wrong = append(wrong, findings...)
				if differs {
					changed = append(changed, file)
				}
			}
			if a.json {
				if err := a.printJSON(map[string]any{"changed": changed, "findings": wrong}); err != nil {
					return err
				}
			} else {
				a.findings(wrong)
				for _, file := range changed {
					if file != "-" || check {
						fmt.Fprintf(a.out, "%s: %s\n", file, map[bool]string{true: "is not formatted", false: "formatted"}[check])
					}
				}
			}
			if wrong.HasErrors() || check && len(changed) > 0 {
				return errFindings
			}
			return nil
		},
	})
	c.Flags().BoolVar(&check, "check", false, "write nothing; name the maps that would change")
	return c
}

// formatted writes a map anew, and tells whether it was different.
func (a *app) formatted(file string, check bool) (bool, finding.List, error) {
	var source []byte
	var err error
	if file == "-" {
		source, err = io.ReadAll(os.Stdin)
	} else {
		source, err = os.ReadFile(file)
	}
	if err != nil {
		return false, nil, err
	}
	text, findings := lang.Format(file, string(source))
	if findings.HasErrors() {
		return false, findings, nil
	}
	differs := !bytes.Equal([]byte(text), source)
	switch {
	case file == "-" && !check && !a.json:
		_, err = io.WriteString(a.out, text)
	case differs && !check && file != "-":
		err = replace(file, []byte(text))
	}
	return differs, nil, err
}

// replace puts a file in the place of another one, whole or not at all.
func replace(file string, content []byte) error {
	mode := os.FileMode(0o644)
	if about, err := os.Stat(file); err == nil {
		mode = about.Mode().Perm()
	}
	beside, err := os.CreateTemp(filepath.Dir(file), ".format-")
	if err != nil {
		return err
	}
	defer os.Remove(beside.Name()) //nolint: it is gone when all is well
	if _, err = beside.Write(content); err == nil {
		err = beside.Chmod(mode)
	}
	if closing := beside.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = os.Rename(beside.Name(), file)
	}
	return err
}
