package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"
	"ydrion/core/format"

	"github.com/spf13/cobra"

	"ydrion/core/formats"
)

func (a *app) convert() *cobra.Command {
	var to, output, member string
	var style format.Style
	c := a.jsonFlag(&cobra.Command{
		Use:   "convert FILE --to FORMAT",
		Short: "Write a file in another format, where that needs no map",
		Long: `Write a file in another format without a route: CSV as JSON objects, one a line,
and back; HL7 v2, X12 and EDIFACT as JSON, and back without losing anything
(docs/formats.md says how messages look in JSON). FILE may be - for standard input.

Of interchanges, counts and numbers that are null in JSON are computed; --number hands
the number of the interchange in. With --canonical they are written with the usual
separators, from JSON or from the same format.

Records that are wrong, or cannot be said in the other format, are findings on
standard error and are left out; the exit code is 1 then.`,
		Example: `  ydrion convert sheet.csv --to json
  ydrion convert results.hl7 --to json | jq '.segments[1][5]'
  ydrion convert results.json --to hl7 --output results.hl7
  ydrion convert orders.json --to x12 --number 72 --output orders.x12
  ydrion convert odd.edi --to edifact --canonical --output usual.edi
  ydrion convert orders.edi --to json | jq '.segments[] | select(.[0] == "LIN")'`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			of := formats.Named(to)
			if of == nil {
				return wrongUse("--to is one of %s", strings.Join(formats.Names(), ", "))
			}
			if (style.Canonical || style.Number != 0) && !of.Canonical {
				return wrongUse("--canonical and --number are for x12 and edifact")
			}
			if style.Number < 0 {
				return wrongUse("--number is 1 or more")
			}
			in, done, err := a.sample(args[0], member)
			if err != nil {
				return err
			}
			defer done()
			out := a.raw
			if output != "" {
				f, err := os.OpenFile(output, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
				if err != nil {
					return wrongUse("the output cannot be made: %v", err)
				}
				defer func() { err = errors.Join(err, f.Close()) }()
				out = f
			} else if a.json {
				return wrongUse("with --json, name an --output")
			}
			buffered := bufio.NewWriter(out)
			result, err := formats.Convert(cmd.Context(), in, args[0], to, style, buffered)
			var unable formats.Unable
			if errors.As(err, &unable) {
				return wrongUse("%v", unable)
			}
			if err = errors.Join(err, buffered.Flush()); err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(result)
			} else {
				for _, f := range result.Findings {
					fmt.Fprintln(a.err, f)
				}
				fmt.Fprintf(a.err, "%d of %s written\n", result.Written, count(int(result.Records), "record"))
			}
			if err == nil && (result.Errors > 0 || result.Written < result.Records) {
				err = errFindings
			}
			return err
		},
	})
	f := c.Flags()
	f.StringVar(&to, "to", "", strings.Join(formats.Names(), ", "))
	f.StringVarP(&output, "output", "o", "", "write to this new file instead of standard output")
	f.StringVar(&member, "member", "", "member of a zip archive")
	f.BoolVar(&style.Canonical, "canonical", false, "write interchanges with the usual separators, no line ends, and nothing behind the last value")
	f.Int64Var(&style.Number, "number", 0, "control number of the first interchange that has none (null in JSON); those that follow count on")
	return c
}
