package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/formats"
	"ydrion/core/text"
)

func (a *app) look() *cobra.Command {
	var place, member, description string
	var records int
	var known stated
	c := a.jsonFlag(&cobra.Command{
		Use:   "look FILE",
		Short: "Say what a file is: format, records, fields, and what is wrong with it",
		Long: `Look at a file that no route has been made for yet: which format and version it
is, in which encoding, how many records of which types it has, which fields and
what their values look like, and what is wrong with it. FILE may be - for
standard input. Files in gzip are undone; in a zip archive, name a member.

What it is is guessed from its beginning, with the reasons for and against; with --format,
--encoding, --delimiter and --heading you say what you know.

The whole file is read, in a stream. The exit code is 1 if there are errors.

Places for --at: a record's number, "record 4711", "byte 88112", or a position
such as PID-5, NAD(BY)-2, weight_kg or /animal/tag, of which all records that have
it are shown.

Messages of HL7 v2, X12 and EDIFACT are checked against their standard; with --description against a
description of your own, or for X12 and EDIFACT a partner's guideline (.sef).`,
		Example: `  ydrion look demo/files/brunholm-2026-11-23.csv
  ydrion look results.hl7 --at PID-5 --records 10
  ydrion look results.hl7 --at "record 4711"
  ydrion look big.csv.gz --json | jq '.fields[].path'
  ydrion look week.zip --member monday.csv
  ydrion look orders.x12 --description partner.sef
  ydrion look sheet.txt --encoding windows-1252 --delimiter ";" --heading no`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			request := formats.Request{Byte: -1, Records: 1}
			if place != "" {
				var err error
				if request, err = formats.At(place); err != nil {
					return wrongUse("%v", err)
				}
			}
			if cmd.Flags().Changed("records") {
				request.Records = records
			} else if request.Path != "" {
				request.Records = 10
			}
			if description != "" {
				var err error
				if request.Own, err = a.description(description); err != nil {
					return err
				}
			}
			var err error
			if request.Known, err = known.known(); err != nil {
				return err
			}
			request.Name = args[0]
			in, done, err := a.sample(args[0], member)
			if err != nil {
				return err
			}
			defer done()
			if tell := a.progress(); tell != nil {
				request.Progress = func(n int64) { tell(flow.Progress{Balance: flow.Balance{Bytes: n}}) }
			}
			look, err := formats.Examine(cmd.Context(), in, request)
			if err != nil {
				if errors.Is(err, text.ErrBomb) {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				return err
			}
			if of := formats.Named(look.Format); request.Own != nil && (of == nil || of.Catalog == nil) {
				fmt.Fprintf(a.err, "%s describes messages of HL7 v2, X12 or EDIFACT, and was not used\n", description)
			}
			if a.json {
				err = a.printJSON(look)
			} else {
				if a.looked(look); place == "" && args[0] != "-" && look.Format != "" && look.Records > 0 {
					fmt.Fprintf(a.out, "a first route for such files: ydrion new ROUTE %s\n", args[0])
				}
			}
			if err == nil && (look.Errors > 0 || look.Format == "") {
				err = errFindings
			}
			return err
		},
	})
	f := c.Flags()
	f.StringVar(&place, "at", "", "place to show: a record, a byte, or a position")
	f.IntVar(&records, "records", 1, "how many records to show")
	f.StringVar(&member, "member", "", "member of a zip archive")
	f.StringVar(&description, "description", "", "file that describes messages: a guideline (.sef), or what guideline writes")
	known.flags(c)
	return c
}

// stated is what the user says of a file.
type stated struct{ format, encoding, delimiter, heading string }

// flags are those by which the user says it.
func (s *stated) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.format, "format", "", "what the file is: csv, json, hl7, x12 or edifact, instead of a guess")
	f.StringVar(&s.encoding, "encoding", "", "the encoding it is in, such as utf-8 or windows-1252")
	f.StringVar(&s.delimiter, "delimiter", "", "of csv: one character, or tab")
	f.StringVar(&s.heading, "heading", "", "of csv: yes if the first line names the columns, no if not")
}

// known reads what the user says.
func (s stated) known() (k format.Known, err error) {
	if s.format != "" && formats.Named(s.format) == nil {
		return k, wrongUse("--format is one of %s, not %q", strings.Join(formats.Names(), ", "), s.format)
	}
	k.Format = s.format
	if s.encoding != "" {
		if k.Charset, err = text.ParseCharset(s.encoding); err != nil {
			return k, wrongUse("--encoding: %v", err)
		}
	}
	switch {
	case s.delimiter == "tab":
		k.Delimiter = '\t'
	case len(s.delimiter) > 1 || s.delimiter >= "\x80":
		return k, wrongUse("--delimiter is one ASCII character, or tab, not %q", s.delimiter)
	case s.delimiter != "":
		k.Delimiter = s.delimiter[0]
	}
	switch s.heading {
	case "yes", "no":
		yes := s.heading == "yes"
		k.Heading = &yes
	case "":
	default:
		return k, wrongUse("--heading is yes or no, not %q", s.heading)
	}
	if k.Format == "" && (k.Delimiter != 0 || k.Heading != nil) {
		k.Format = "csv"
	}
	if k.Format != "" && k.Format != "csv" && (k.Delimiter != 0 || k.Heading != nil) {
		return k, wrongUse("--delimiter and --heading are for csv, not for %s", k.Format)
	}
	return k, nil
}

// sample opens a file, a member of an archive, or standard input.
func (a *app) sample(name, member string) (io.Reader, func() error, error) {
	if name == "-" {
		return os.Stdin, func() error { return nil }, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, nil, wrongUse("the file cannot be opened: %v", err)
	}
	st, err := f.Stat()
	if err == nil && st.IsDir() {
		err = fmt.Errorf("%s is a folder", name)
	}
	if err != nil {
		return nil, nil, errors.Join(err, f.Close())
	}
	if _, isZip := text.Members(f, st.Size()); !isZip {
		return f, f.Close, nil
	}
	in, _, err := text.OpenMember(f, st.Size(), member)
	if err != nil {
		return nil, nil, errors.Join(wrongUse("%v", err), f.Close())
	}
	return in, func() error { return errors.Join(in.Close(), f.Close()) }, nil
}

func (a *app) looked(l *formats.Look) {
	of := formats.Named(l.Format)
	what := formats.Title(l.Format)
	switch {
	case l.Format == "" && l.Type != "":
		fmt.Fprintf(a.out, "%s: %s, %d bytes\n", filepath.Base(l.Name), l.Type, l.Bytes)
		for _, r := range l.Reasons {
			fmt.Fprintf(a.out, "  - %s\n", r)
		}
		return
	case l.Format == "":
		what = "of no format that is known"
	case l.Type != "":
		what += ", " + strings.TrimSpace(l.Type+" "+l.Version)
	}
	packed := ""
	if l.Compression != "none" {
		packed = " in " + l.Compression
	}
	fmt.Fprintf(a.out, "%s: %s%s, %s (%s), %d bytes\n", filepath.Base(l.Name), what, packed, l.Charset, l.Confidence, l.Bytes)
	for _, r := range l.Reasons {
		fmt.Fprintf(a.out, "  - %s\n", r)
	}
	if len(l.Settings) > 0 {
		fmt.Fprintf(a.out, "  a route needs:  %s\n", strings.Join(l.Settings, "   "))
	}
	if l.Format == "" {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", count(int(l.Records), "record"))
	if of.Record == "" {
		for _, k := range l.Kinds {
			fmt.Fprintf(a.out, "  %6d  %s %s\n", k.Count, k.Name, k.Version)
		}
	}
	if len(l.Fields) > 0 {
		fmt.Fprintln(a.out)
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		known := slices.ContainsFunc(l.Fields, func(f formats.Field) bool { return f.Meaning != "" })
		meaning := func(s string) string {
			if known {
				return s + "\t"
			}
			return ""
		}
		fmt.Fprintf(w, "FIELD\t%sFILLED\tEMPTY\tLOOKS LIKE\tFOR EXAMPLE\n", meaning("MEANING"))
		for _, f := range l.Fields {
			fmt.Fprintf(w, "%s\t%s%d\t%d\t%s\t%s\n", f.Path, meaning(f.Meaning), f.Filled, f.Empty, f.Looks, f.Example)
		}
		w.Flush() //nolint: what it writes to has been written to
	}
	for _, s := range l.Shown {
		fmt.Fprintf(a.out, "\nrecord %d, line %d, byte %d: %s\n", s.Record, s.Line, s.Offset, s.Kind)
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		for _, v := range s.Parts {
			indent := strings.Repeat("  ", v.Depth+1)
			switch {
			case v.Kind == format.Leaf:
				value := finding.Shorten([]byte(v.Value))
				if v.Means != "" {
					value += " (" + v.Means + ")"
				}
				fmt.Fprintf(w, "%s%s\t%s\t%s\n", indent, v.Path, value, v.Name)
			case v.Kind == format.Group:
				fmt.Fprintf(w, "%s%s\n", indent, v.Name)
			case v.Kind == format.Segment:
				fmt.Fprintf(w, "%s%s\t\t%s\n", indent, v.Path, v.Name)
			case v.Name != "":
				fmt.Fprintf(w, "%s%s\t\t%s\n", indent, v.Path, v.Name)
			case v.Path != "": // an object or a list
				fmt.Fprintf(w, "%s%s\n", indent, v.Path)
			}
		}
		w.Flush() //nolint: what it writes to has been written to
	}
	if len(l.Findings) > 0 {
		fmt.Fprintln(a.out)
	}
	a.findings(l.Findings)
	if more := l.Errors + l.Warnings - int64(len(l.Findings)); more > 0 {
		fmt.Fprintf(a.out, "and %d more\n", more)
	}
	fmt.Fprintf(a.out, "%s, %s\n", count(int(l.Errors), "error"), count(int(l.Warnings), "warning"))
}
