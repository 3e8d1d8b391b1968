package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/order"
	"ydrion/core/value"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/service"
	"ydrion/workspace"
)

func (a *app) check() *cobra.Command {
	var in func([]string) (string, error)
	c := a.jsonFlag(&cobra.Command{
		Use:   "check [WORKSPACE]",
		Short: "Check a workspace: routes, maps, schemas, lookups, and circles between routes",
		Long: `Check everything in a workspace as publishing would, without a service. Every
problem is printed with file, line and column. The exit code is 1 if there is an
error; warnings alone give 0.`,
		Example: "  ydrion check demo/workspace\n  ydrion check --json . | jq '.findings[].message'",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			folder, err := in(args)
			if err != nil {
				return err
			}
			w, err := load(folder)
			if err != nil {
				return err
			}
			list, routes := checkAll(w)
			if a.json {
				if err := a.printJSON(map[string]any{"routes": routes, "findings": append(finding.List{}, list...)}); err != nil {
					return err
				}
			} else {
				a.findings(list)
				fmt.Fprintf(a.out, "%s: %s, %s\n", folder, count(routes, "route"), summary(list))
			}
			if list.HasErrors() {
				return errFindings
			}
			return nil
		},
	})
	in = workspaceFlag(c)
	return c
}

// count says how many of something there are.
// balance says what became of records.
func balance(in, good, rejected, filtered, merged, warnings int64) string {
	return flow.Balance{In: in, Good: good, Rejected: rejected, Filtered: filtered, Merged: merged, Warnings: warnings}.String()
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func summary(list finding.List) string {
	errors := 0
	for _, f := range list {
		if f.Severity == finding.Error {
			errors++
		}
	}
	if len(list) == 0 {
		return "nothing wrong"
	}
	return count(errors, "error") + ", " + count(len(list)-errors, "warning")
}

func checkAll(w *workspace.Workspace) (finding.List, int) {
	list := append(finding.List{}, w.Findings...)
	var names []string
	var all []*workspace.Route
	for n, r := range w.Routes {
		names = append(names, n)
		all = append(all, r)
	}
	sort.Strings(names)
	for _, n := range names {
		_, findings := route.Compile(w, n)
		list = append(list, findings...)
	}
	for _, e := range w.Environments {
		list = append(list, route.Guard(all, func(f string) (string, error) { return e.Whereabouts(f, "/") })...)
		list = append(list, route.Fits(all, e)...)
	}
	if len(w.Environments) == 0 {
		list = append(list, route.Guard(all, func(f string) (string, error) { return f, nil })...)
	}
	// Routes that share a map or a schema share what is wrong with it.
	said := map[string]bool{}
	list = slices.DeleteFunc(list, func(f finding.Finding) bool {
		again := said[f.String()]
		said[f.String()] = true
		return again
	})
	return list, len(names)
}

func (a *app) try() *cobra.Command {
	var folder, output, rejects, branch string
	var request service.TrialRequest
	c := a.jsonFlag(&cobra.Command{
		Use: "try ROUTE FILE...", ValidArgsFunction: completeTry,
		Short: "Run a route over a file and show input, output and findings of each record",
		Long: `Run a route of a workspace over a file. Nothing is delivered, moved or recorded;
no service is needed. FILE may be - for standard input. Several files go through a
route together that collects them.

With --output and --rejects the whole result is written to files instead, at
full speed.`,
		Example: `  ydrion try specimen-orders demo/files/brunholm-2026-11-23.csv --workspace demo/workspace
  ydrion try specimen-orders sheet.csv --rejected
  ydrion try specimen-orders sheet.csv --record 4 --json
  ydrion try specimen-orders sheet.csv --record 4 --explain
  ydrion try reagent-orders orders.csv --record 4 --rows 500
  ydrion try specimen-orders big.csv --output out.hl7 --rejects bad.csv
  ydrion try pool-logs north.csv south.csv
  ydrion try supplier-answers a.edi --branch store --output store.csv`,
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if request.Rows < 1 {
				return wrongUse("--rows is a number from 1, not %d", request.Rows)
			}
			w, err := load(folder)
			if err != nil {
				return err
			}
			compiled, findings := route.Compile(w, args[0])
			if compiled == nil {
				a.findings(append(w.Findings, findings...))
				return errFindings
			}
			if len(args) > 2 && !compiled.Collect.Any() {
				return wrongUse("the route takes files one by one: nothing in it collects them (`collect`); try one of them")
			}
			in, err := opened(args[1:])
			if err != nil {
				return err
			}
			if request.Branch, err = branchOf(compiled, branch, output != ""); err != nil {
				return err
			}
			if output != "" || rejects != "" {
				request.Whole, request.Limit = true, 0
			}
			closers := []func() error{}
			for _, o := range []struct {
				name string
				to   *io.Writer
			}{{output, &request.Output}, {rejects, &request.Rejects}} {
				if o.name == "" {
					continue
				}
				f, err := os.Create(o.name)
				if err != nil {
					return wrongUse("the output cannot be made: %v", err)
				}
				*o.to = f
				closers = append(closers, f.Close)
			}
			one := cmd.Flags().Changed("record")
			if one {
				request.Limit = 1
			}
			facts := lang.Facts{Route: compiled.Name, Now: value.FromTime(time.Now().Truncate(time.Second)), Name: filepath.Base(args[1])}
			if compiled.Collect.Any() {
				facts.Files = len(in)
				if facts.Key, err = keyOf(compiled, in[0], facts); err != nil {
					return err
				}
			}
			trial, err := service.Try(cmd.Context(), compiled, in, flow.Inputs{Facts: facts, Progress: a.progress(), Spill: func() (order.Spill, error) { return files.Unnamed("") }}, request)
			for _, c := range closers {
				if e := c(); err == nil {
					err = e
				}
			}
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(trial)
			} else {
				more := " (so far; there are more records, see --limit and --record)"
				if request.Whole {
					more = ""
				}
				a.trial(trial, strings.Join(args[1:], ", "), more)
			}
			if err == nil && (trial.Findings.HasErrors() || trial.Balance.Rejected > 0) {
				err = errFindings
			}
			return err
		},
	})
	f := c.Flags()
	f.StringVarP(&folder, "workspace", "w", ".", "folder of the workspace")
	f.Int64Var(&request.From, "record", 1, "show one record only; with --limit, from this one on")
	f.IntVar(&request.Limit, "limit", 20, "how many records to show")
	f.IntVar(&request.Rows, "rows", service.FewRows, "how many rows of long lists to show")
	f.BoolVar(&request.Explain, "explain", false, "show what each line of the map did, with the fields that went into it")
	f.BoolVar(&request.Rejected, "rejected", false, "show rejected records only")
	f.BoolVar(&request.Warned, "warned", false, "show only records with a warning; with --rejected both")
	f.StringVarP(&output, "output", "o", "", "write all good records to this file")
	f.StringVar(&branch, "branch", "", "the branch whose records --output writes, where the route has several")
	f.StringVar(&rejects, "rejects", "", "write all rejected records to this file")
	return c
}

// opened are files that are read when their turn comes; - is the standard input.
func opened(names []string) (out []flow.File, err error) {
	for _, name := range names {
		if name == "-" {
			out = append(out, service.One(os.Stdin, name)...)
			continue
		}
		info, err := os.Stat(name)
		if err != nil {
			return nil, wrongUse("the file cannot be opened: %v", err)
		}
		out = append(out, flow.File{Name: filepath.Base(name), Event: listen.Arrived, Size: info.Size(), Open: func() (io.ReadCloser, error) { return os.Open(name) }})
	}
	return out, nil
}

// keyOf is what a file has in common with those that it is collected with.
func keyOf(c *route.Compiled, f flow.File, facts lang.Facts) (string, error) {
	if c.With == nil || f.Name == "-" {
		return "", nil
	}
	in, err := f.Open()
	if err != nil {
		return "", err
	}
	defer in.Close()
	made, _, err := c.Plan.Peek(in, facts, c.With)
	return made[0], err
}

// branchOf finds a branch of a route by its name. Where there are several, an output needs one.
func branchOf(c *route.Compiled, name string, needed bool) (int, error) {
	var names []string
	for i, b := range c.Branches {
		if b.Name == name || name == "" && len(c.Branches) == 1 {
			return i, nil
		}
		names = append(names, strconv.Quote(b.Name))
	}
	switch {
	case name == "" && !needed:
		return 0, nil
	case name == "":
		return 0, wrongUse("the route has several branches, and --output writes what one makes: say --branch and one of %s", strings.Join(names, ", "))
	case names[0] == `""`:
		return 0, wrongUse("the route has no branches")
	}
	return 0, wrongUse("the route has no branch %q; there are %s", name, strings.Join(names, ", "))
}

// progress tells a person at a terminal how far a long run has got; nobody else
// wants to know.
func (a *app) progress() func(flow.Progress) {
	if !terminal(a.errRaw) {
		return nil
	}
	began, told := time.Now(), time.Now()
	return func(p flow.Progress) {
		if time.Since(began) <= time.Second || time.Since(told) <= 200*time.Millisecond {
			return
		}
		told = time.Now()
		switch about := ""; p.Stage {
		case flow.Ordering:
			fmt.Fprintf(a.errRaw, "\rputting into order: %d records, %d MB ", p.In, p.Bytes/1_000_000)
		default:
			if p.About > 0 {
				about = fmt.Sprintf(" of about %d", p.About)
			}
			fmt.Fprintf(a.errRaw, "\r%d%s records, %d rejected, %d MB ", p.In, about, p.Rejected, p.Bytes/1_000_000)
		}
	}
}

// terminal tells whether a person sees what is written there.
func terminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	if !ok {
		return false
	}
	st, err := f.Stat()
	return err == nil && st.Mode()&os.ModeCharDevice != 0
}

// rowsOf says where the rows stand that went into a record.
func rowsOf(r service.RecordView) string {
	var said []string
	for _, s := range r.Sources {
		at := fmt.Sprint(s.Line)
		if s.File != "" {
			at += " of " + s.File
		}
		said = append(said, at)
	}
	out := fmt.Sprintf("%s: lines %s", count(r.Rows, "row"), strings.Join(said, ", "))
	if more := r.Rows - len(r.Sources); more > 0 {
		out += fmt.Sprintf(" and %d more", more)
	}
	return out
}

// trial prints records side by side: what came in, what went out; and more, if
// there are more records than are shown.
func (a *app) trial(t *service.Trial, name, more string) {
	for _, f := range t.Findings {
		f.Place.File = cmp.Or(f.Place.File, name)
		fmt.Fprintln(a.out, f)
	}
	for _, r := range t.Records {
		in := ""
		if r.File != "" {
			in = " of " + r.File
		}
		if r.Rows > 1 {
			in += " (" + rowsOf(r) + ")"
		}
		fmt.Fprintf(a.out, "\nrecord %d, line %d%s: %s", r.Record, r.Line, in, r.Outcome)
		if len(r.Became) == 1 && len(r.Became[0].Files) > 0 {
			fmt.Fprintf(a.out, ", becomes %s", r.Became[0].Files[0].Name)
		}
		fmt.Fprintln(a.out)
		for _, f := range r.Findings {
			f.Place.File = cmp.Or(f.Place.File, name)
			fmt.Fprintf(a.out, "  %s\n", strings.ReplaceAll(f.String(), "\n", "\n  "))
		}
		left, right := listed(r.Fields, widestLeft, mostLeft), []string{}
		beside := 0
		for _, l := range left {
			beside = max(beside, utf8.RuneCountInString(l))
		}
		for _, of := range r.Became {
			if of.Branch != "" {
				heading := "[" + of.Branch + "]"
				if len(r.Became) > 1 && len(of.Files) > 0 {
					heading += " " + of.Files[0].Name
				}
				right = append(right, heading)
			}
			right = append(right, listed(of.Lines, mostWide-beside, 0)...)
		}
		sideBySide(a.out, left, right)
		for _, e := range r.Explained {
			a.explained(e)
		}
		if r.Explained != nil && len(r.Explained) == 0 {
			fmt.Fprint(a.out, "\n  no map was at work: the record did not come so far, or goes on as it came\n")
		}
	}
	b := t.Balance
	fmt.Fprintf(a.out, "\n%s: %s", name, b)
	if t.More {
		fmt.Fprint(a.out, more)
	}
	fmt.Fprintln(a.out)
	if t.Refused {
		fmt.Fprintln(a.out, "The route rejects this file whole, with all its records.")
	}
}

// explained prints what each line of a map did.
func (a *app) explained(e service.Explained) {
	heading := "what " + e.Map + " did"
	if e.Branch != "" {
		heading += " [" + e.Branch + "]"
	}
	fmt.Fprintf(a.out, "\n  %s:\n", heading)
	for _, s := range e.Steps {
		rows := ""
		if len(s.Rows) > 0 {
			rows = "   (" + strings.Join(s.Rows, ", ") + ")"
		}
		fmt.Fprintf(a.out, "  %4d  %s%s\n", s.Line, s.Says, rows)
		width := 0
		for _, p := range s.Parts {
			width = max(width, min(utf8.RuneCountInString(p.Says), mostLeft))
		}
		for _, p := range s.Parts {
			at := ""
			if p.At != nil {
				at = fmt.Sprintf("   line %d, column %d", p.At.Line, p.At.Column)
			}
			pad := strings.Repeat(" ", max(0, width-utf8.RuneCountInString(p.Says)))
			fmt.Fprintf(a.out, "            %s%s   %s%s\n", p.Says, pad, worked(p.Kind, p.Value), at)
		}
		if s.More > 0 {
			fmt.Fprintf(a.out, "            … %s more\n", count(s.More, "value"))
		}
		fmt.Fprintf(a.out, "          = %s\n", worked(s.Kind, s.Value))
	}
	if e.More > 0 {
		fmt.Fprintf(a.out, "        … %s more\n", count(e.More, "step"))
	}
}

// worked is a value as it is printed.
func worked(kind, value string) string {
	switch kind {
	case "absent", "empty", "null":
		return kind
	case "failed":
		return "fails: " + value
	}
	return value
}

// said is a line of a record as it is printed.
func said(l format.Line) string {
	if l.Folded > 0 {
		return fmt.Sprintf("%s … %s (--rows)", l.Path, count(l.Folded, "value"))
	}
	return fmt.Sprintf("%s = %s", l.Path, finding.Shorten([]byte(l.Value)))
}

// widestLeft is how many characters a table of what came in may have beside what went out, mostLeft how many of a value are
// shown there, and mostWide how many both have together.
const (
	widestLeft = 72
	mostLeft   = 52
	mostWide   = 116
)

// sideBySide prints two columns of lines.
func sideBySide(w io.Writer, left, right []string) {
	width := 0
	for _, l := range left {
		width = max(width, min(len([]rune(l)), widestLeft))
	}
	for i := range max(len(left), len(right)) {
		l, r := "", ""
		if i < len(left) {
			l = left[i]
		}
		if i < len(right) {
			r = right[i]
		}
		if runes := []rune(l); len(runes) > widestLeft {
			l = string(runes[:widestLeft-1]) + "…"
		}
		pad := strings.Repeat(" ", width-len([]rune(l)))
		fmt.Fprintln(w, strings.TrimRight(fmt.Sprintf("    %s%s   %s", l, pad, r), " "))
	}
}

func (a *app) functions() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use:     "functions [NAME...]",
		Short:   "List the functions of the map language with examples, or some of them",
		Example: "  ydrion functions\n  ydrion functions date format\n  ydrion functions --json",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return functionNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			for _, name := range args {
				if names := functionNames(); !slices.Contains(names, name) {
					near := finding.Nearest(name, names)
					if near == "" {
						return wrongUse("there is no function %s; `ydrion functions` lists all", name)
					}
					return wrongUse("there is no function %s; did you mean %s?", name, near)
				}
			}
			type entry struct {
				Name    string `json:"name"`
				Usage   string `json:"usage"`
				Doc     string `json:"doc"`
				Example string `json:"example,omitempty"`
				Field   string `json:"field,omitempty"`
				Gives   string `json:"gives,omitempty"`
			}
			var list []entry
			var rows [][]string
			for _, f := range lang.Functions() {
				if len(args) > 0 && !slices.Contains(args, f.Name) {
					continue
				}
				list = append(list, entry{f.Name, f.Usage(), f.Doc, f.Example, f.Field, f.Gives})
				example := ""
				if f.Example != "" {
					example = fmt.Sprintf("%s   (%q gives %q)", f.Example, f.Field, f.Gives)
					if f.Rows {
						example = fmt.Sprintf("%s   (rows with value %s give %q)", f.Example, strings.Join(strings.Fields(f.Field), ", "), f.Gives)
					}
				}
				on := "VALUE"
				if f.Rows {
					on = "LIST"
				}
				rows = append(rows, []string{on + " | " + f.Usage(), f.Doc}, []string{"", "    " + example})
			}
			if a.json {
				return a.printJSON(list)
			}
			return a.table("USE,MEANING", rows)
		},
	})
}

func functionNames() (names []string) {
	for _, f := range lang.Functions() {
		names = append(names, f.Name)
	}
	return names
}
