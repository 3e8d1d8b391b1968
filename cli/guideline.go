package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ydrion/core/finding"
	"ydrion/core/formats"
	"ydrion/core/standard"
)

// maxGuideline is how long a guideline may be.
const maxGuideline = 16 << 20

func (a *app) guideline() *cobra.Command {
	var output string
	c := a.jsonFlag(&cobra.Command{
		Use:   "guideline FILE",
		Short: "Read a partner's guideline (SEF) and write it as a description",
		Long: `Read a guideline in the Standard Exchange Format (SEF), in which partners say how
they use messages of X12 and EDIFACT: which segments, loops, elements, codes and
conditions. Say what it has and what of it cannot be checked against messages here.

With --output, write it as a description in Ydrion's own text format, which can be
read, changed and compared. Put it, or the guideline as it is, into the folder
descriptions of a workspace and name it in a route (check.description), or look at a
file with it. The exit code is 1 if it cannot be read.`,
		Example: `  ydrion guideline partner.sef
  ydrion guideline partner.sef --output descriptions/partner-850.txt
  ydrion look orders.x12 --description descriptions/partner-850.txt`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := small(args[0])
			if err != nil {
				return err
			}
			g, findings := formats.Guideline(filepath.Base(args[0]), b)
			if output != "" && g != nil {
				if err := create(output, g.Text); err != nil {
					return err
				}
			}
			if a.json {
				if findings == nil {
					findings = finding.List{}
				}
				if err := a.printJSON(struct {
					*standard.Guideline
					Findings finding.List `json:"findings"`
				}{g, findings}); err != nil {
					return err
				}
			} else {
				a.guided(g, findings, output)
			}
			if g == nil {
				return errFindings
			}
			return nil
		},
	})
	c.Flags().StringVarP(&output, "output", "o", "", "write the description to this new file")
	return c
}

// guided shows what a guideline has.
func (a *app) guided(g *standard.Guideline, findings finding.List, output string) {
	for _, f := range findings {
		fmt.Fprintln(a.out, f)
	}
	if g == nil {
		fmt.Fprintln(a.out, "nothing was taken")
		return
	}
	n := map[string]int{}
	for line := range strings.SplitSeq(g.Text, "\n") {
		kind, _, _ := strings.Cut(line, " ")
		n[kind]++
	}
	fmt.Fprintf(a.out, "%s: %s %s, %s: %s\n", g.Name, formats.Title(g.Standard), g.Version, strings.Join(g.Messages, ", "), g.Title)
	fmt.Fprintf(a.out, "%s, %s, %s, %s, %d with conditions\n", count(n["structure"], "message"), count(n["segment"], "segment"), count(n["type"], "composite"), count(n["table"], "code list"), n["notes"])
	if output != "" {
		fmt.Fprintf(a.out, "written to %s\n", output)
	}
}

// description reads a file that describes messages, and tells what of it is not taken.
func (a *app) description(name string) (*standard.Catalog, error) {
	b, err := small(name)
	if err != nil {
		return nil, err
	}
	catalog, _, findings := formats.Description(name, b)
	for _, f := range findings {
		fmt.Fprintln(a.err, f)
	}
	if catalog == nil {
		return nil, errFindings
	}
	return catalog, nil
}

// small reads a file that people write.
func small(name string) ([]byte, error) {
	st, err := os.Stat(name)
	switch {
	case err != nil:
		return nil, wrongUse("the file cannot be opened: %v", err)
	case !st.Mode().IsRegular():
		return nil, wrongUse("%s is not a file", name)
	case st.Size() > maxGuideline:
		return nil, wrongUse("%s is larger than %d MiB", name, maxGuideline>>20)
	}
	return os.ReadFile(name)
}

// create writes a new file.
func create(name, text string) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return wrongUse("the output cannot be made: %v", err)
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}
