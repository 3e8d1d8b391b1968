package flow_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	source "ydrion/core/format/csv"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
)

// heard is a sink that keeps what is made, and how much was said about it.
type heard struct {
	opened *flow.Opened
	out    bytes.Buffer
	said   int
}

func (h *heard) Open(o *flow.Opened) error { h.opened = o; return nil }
func (h *heard) Batch(b *batch.Batch) error {
	made, err := h.opened.Assemblies[0].All(b)
	h.out.Write(made)
	h.said += len(b.Notes)
	return err
}
func (h *heard) Broken(*format.Broken) error { h.said++; return nil }

// damaged is a text in which a few places are not what they were: other characters, of those that mean something most of all, stretches that
// are missing or stand there twice, an end that is missing.
func damaged(r *rand.Rand, in []byte, special string) []byte {
	out := bytes.Clone(in)
	for range 1 + r.IntN(3) {
		at := r.IntN(len(out))
		n := min(1+r.IntN(40), len(out)-at)
		c := special[r.IntN(len(special))]
		switch r.IntN(8) {
		case 0:
			out[at] = byte(r.IntN(256))
		case 1, 2:
			out[at] = c
		case 3, 4:
			out = append(out[:at:at], append([]byte{c}, out[at:]...)...)
		case 5:
			out = append(out[:at:at], out[at+n:]...)
		case 6:
			out = append(out[:at+n:at+n], out[at:]...)
		case 7:
			out = out[:min(len(out), max(at, 60))]
		}
	}
	return out
}

// errElse says that a plain reading cannot tell what is meant.
var errElse = errors.New("it is something else")

// TestDamage: a file that is damaged is found to be; or what is made of it is what a plain reading makes of it, value by value. What is lost or changed
// without a word is what this looks for. Records that are good beside those that are rejected are those of a plain reading, too, or of the file as it was.
func TestDamage(t *testing.T) {
	orders, _ := orders(12)
	observations, _ := observations(12)
	for name, of := range map[string]struct {
		in      []byte
		special string
		plan    *flow.Plan
		plain   func([]byte) ([][]string, error)    // nothing is to be made of the file if there is an error
		made    func(io.Reader) ([][]string, error) // what was made, in the same form
	}{
		"orders":       {orders, "'+:?*UNHLIN \n\x00\xff", ordersPlan(t), plainOrders, madeOrders},
		"observations": {observations, "|^~\\&\r\n\x0b\x1c MSHOBX\x00\xff", observationsPlan(t), plainObservations, madeObservations},
		"sets":         {sets(12), "~*>^ISAGSTPO1\n\x00\xff", setsPlan(t), plainSets, madeRows},
		"sheet":        {sheet(40), "\",\n\r; \t'\xc3\x00\xff", sheetPlan(t), plainSheet, madeRows},
		"list":         {nested(12, false), "{}[],:\"\\ 01eE.-+nulltrue\n\x00\xff", nestedPlan(t, false), func(in []byte) ([][]string, error) { return plainSamples(in, false) }, madeRows},
		"lines":        {nested(12, true), "{}[],:\"\\ 01eE.-+nulltrue\n\x00\xff", nestedPlan(t, true), func(in []byte) ([][]string, error) { return plainSamples(in, true) }, madeRows},
	} {
		t.Run(name, func(t *testing.T) {
			silent, partly := 0, 0
			was, err := of.plain(of.in)
			if err != nil {
				t.Fatal(err)
			}
			for seed := range uint64(1500) {
				in := damaged(rand.New(rand.NewPCG(seed, 7)), of.in, of.special)
				h := &heard{}
				result, err := of.plan.Run(context.Background(), bytes.NewReader(in), flow.Inputs{Cores: 1}, h)
				if err != nil {
					continue
				}
				want, bad := of.plain(in)
				if h.said > 0 || len(result.Findings) > 0 {
					broken := name == "observations" && bytes.IndexByte(in, '\n') >= 0 // a line feed in a message of other line ends stays where it is, and is told
					if got, err := of.made(&h.out); !broken && bad == nil && err == nil && len(got) > 0 {
						partly++
						for _, row := range got {
							is := func(other []string) bool { return slices.Equal(row, other) }
							if !slices.ContainsFunc(want, is) && !slices.ContainsFunc(was, is) {
								t.Errorf("seed %d: %q is good, of\n%q", seed, row, in)
							}
						}
					}
					continue
				}
				if bad == errElse {
					continue
				}
				silent++
				got, err := of.made(&h.out)
				if bad != nil || err != nil || fmt.Sprint(got) != fmt.Sprint(want) {
					i := 0
					for i < min(len(got), len(want)) && fmt.Sprint(got[i]) == fmt.Sprint(want[i]) {
						i++
					}
					t.Errorf("seed %d: %d rows, by hand %d (%v, %v); from %d on\n%q, not\n%q\n%q", seed, len(got), len(want), err, bad, i, got[i:min(i+1, len(got))], want[i:min(i+1, len(want))], in)
				}
			}
			if silent < 100 || partly < 30 {
				t.Errorf("only %d of the damaged files were read without a word, and %d in part: this says little", silent, partly)
			}
		})
	}
}

// sets are orders of X12, with one to nine lines each.
func sets(n int) []byte {
	var b bytes.Buffer
	b.WriteString("ISA*00*          *00*          *ZZ*SKERRY         *ZZ*HOLM           *261125*0930*^*00501*000000007*0*T*>~\nGS*PO*S*H*20261125*0930*7*X*005010~\n")
	for i := range n {
		lines := 1 + i*7%9
		fmt.Fprintf(&b, "ST*850*%04d~\nBEG*00*SA*PO-%d**20261125~\nN1*BY*SKERRY COAST*92*B%d~\n", i+1, i, i%5)
		for k := range lines {
			fmt.Fprintf(&b, "PO1*%d*%d*EA*%d.5**VP*HR-%d~\nPID*F****Seal milk %d~\n", k+1, 1+k, i, k, k)
		}
		fmt.Fprintf(&b, "CTT*%d~\nSE*%d*%04d~\n", lines, 5+2*lines, i+1)
	}
	fmt.Fprintf(&b, "GE*%d*7~\nIEA*1*000000007~\n", n)
	return b.Bytes()
}

// setsPlan makes a row of each line.
func setsPlan(tb testing.TB) *flow.Plan {
	return copying(tb, segments.Interchanges{Rules: x12.Rules, Unit: "PO1"}, "x12", "ST-2", "BEG-3", "N1(BY)-4", "PO1-1", "PO1-2", "PO1-4", "PO1-7", "PID-5")
}

// plainSets reads orders of X12: a row for each line.
func plainSets(in []byte) (out [][]string, err error) {
	const isa = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*HOLM           *261125*0930*^*00501*000000007*0*T*>~"
	if !bytes.HasPrefix(in, []byte(isa)) || bytes.Count(in, []byte("ISA*")) > 1 {
		return nil, errElse
	}
	var head []string
	var lines [][]string // of the set at hand
	seen := map[string]bool{}
	for _, segment := range strings.Split(string(in), "~") {
		e := append(strings.Split(strings.TrimLeft(segment, "\r\n "), "*"), make([]string, 10)...)
		value := func(n int) string {
			repetition, _, _ := strings.Cut(e[n], "^")
			component, _, _ := strings.Cut(repetition, ">")
			return component
		}
		first := e[0]
		if first == "N1" {
			first += value(1)
		}
		switch {
		case e[0] == "ST":
			head, lines, seen = []string{value(2), "", ""}, nil, map[string]bool{}
		case first == "BEG" && !seen[first] && head != nil:
			head[1] = value(3)
		case first == "N1BY" && !seen[first] && lines == nil && head != nil:
			head[2] = value(4)
		case e[0] == "PO1" && head != nil:
			lines = append(lines, append(append([]string{}, head...), value(1), value(2), value(4), value(7), ""))
			delete(seen, "PID")
		case e[0] == "PID" && lines != nil && !seen[first]:
			lines[len(lines)-1][7] = value(5)
		case e[0] == "SE":
			out, lines = append(out, lines...), nil
		}
		seen[first] = true
	}
	return out, nil
}

// sheet is CSV with quotes, line ends in them, and characters beyond ASCII.
func sheet(rows int) []byte {
	var b bytes.Buffer
	b.WriteString("id,station,note,weight\n")
	for i := range rows {
		note := []string{"calm", `"bite, left"`, `"said ""no"" twice"`, "\"two\nlines\"", "Østvik", ""}[i%6]
		fmt.Fprintf(&b, "SC%d,ST%02d,%s,%d.5\n", i, i%17, note, i)
	}
	return b.Bytes()
}

// sheetPlan copies the columns of a sheet.
func sheetPlan(tb testing.TB) *flow.Plan {
	return copying(tb, source.Dialect{}, "csv", "id", "station", "note", "weight")
}

// copying is a plan that makes a column of each path.
func copying(tb testing.TB, from format.Source, name string, paths ...string) *flow.Plan {
	tb.Helper()
	var fields, columns, assigns []string
	for i, path := range paths {
		column := fmt.Sprintf("f%d", i)
		fields = append(fields, fmt.Sprintf(`{"name": %q, "path": %q}`, column, path))
		columns, assigns = append(columns, column), append(assigns, column+" = "+column)
	}
	to, err := source.NewTarget("s.csv", []byte(strings.Join(columns, ",")+"\n"))
	if err != nil {
		tb.Fatal(err)
	}
	lines := "map m\nsource " + name + " s.json\ntarget csv based on s.csv\n\n" + strings.Join(assigns, "\n") + "\n"
	return planned(tb, `{"fields": [`+strings.Join(fields, ",")+`]}`, lines, from, to)
}

// plainSheet reads a sheet as the standard library does.
func plainSheet(in []byte) (out [][]string, err error) {
	c := csv.NewReader(bytes.NewReader(in))
	c.FieldsPerRecord = 4
	all, err := c.ReadAll()
	if err != nil || len(all) == 0 {
		return nil, err
	}
	at := map[string]int{}
	for i, name := range all[0] {
		at[strings.TrimSpace(name)] = i + 1 // blanks around a name are no part of it
	}
	for _, row := range all[1:] {
		one := make([]string, 4)
		for i, name := range []string{"id", "station", "note", "weight"} {
			if k := at[name]; k > 0 {
				one[i] = row[k-1]
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// pieces splits a text of EDIFACT at a separator, where no release character stands before it.
func pieces(text string, by byte) (out []string) {
	from := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '?':
			i++
		case by:
			out, from = append(out, text[from:i]), i+1
		}
	}
	return append(out, text[from:])
}

// plainOrders reads orders: of each message its number, order, buyer and supplier, and then of each line number, item, text, quantity, unit and price.
func plainOrders(in []byte) (out [][]string, err error) {
	if !bytes.HasPrefix(in, []byte("UNA:+.? '\nUNB+UNOC:3+")) {
		return nil, errElse
	}
	lines, seen := 0, map[string]bool{}
	for _, segment := range pieces(string(in), '\'') {
		elements := pieces(strings.TrimLeft(segment, "\r\n "), '+')
		value := func(element, component int) string {
			if element >= len(elements) {
				return ""
			}
			all := pieces(elements[element], ':')
			if component > len(all) {
				return ""
			}
			text := ""
			for i := 0; i < len(all[component-1]); i++ {
				if all[component-1][i] == '?' && i+1 < len(all[component-1]) {
					i++
				}
				text += all[component-1][i : i+1]
			}
			return text
		}
		if name := elements[0]; name == "UNH" {
			out, lines, seen = append(out, []string{value(1, 1), "", "", ""}), 0, map[string]bool{}
			continue
		}
		if len(out) == 0 {
			continue
		}
		order := out[len(out)-1]
		first := func(key string, at, element, component int) {
			if !seen[key] {
				seen[key], order[at] = true, value(element, component)
			}
		}
		last := len(order) - 6
		switch name, by := elements[0], value(1, 1); {
		case name == "BGM":
			first(name, 1, 2, 1)
		case name == "NAD" && by == "BY":
			first(name+by, 2, 2, 1)
		case name == "NAD" && by == "SU":
			first(name+by, 3, 2, 1)
		case name == "LIN":
			lines++
			out[len(out)-1] = append(order, by, value(3, 1), "", "", "", "")
		case lines > 0 && name == "IMD":
			first(fmt.Sprint(lines, name), last+2, 3, 4)
		case lines > 0 && name == "QTY" && by == "21":
			first(fmt.Sprint(lines, name, "unit"), last+4, 1, 3)
			first(fmt.Sprint(lines, name), last+3, 1, 2)
		case lines > 0 && name == "PRI" && by == "AAA":
			first(fmt.Sprint(lines, name), last+5, 1, 2)
		}
	}
	for _, order := range out {
		for i := 4; i < len(order); i += 6 {
			for _, at := range []int{i, i + 3, i + 5} { // numbers
				if n, err := strconv.ParseFloat(order[at], 64); err == nil {
					order[at] = strconv.FormatFloat(n, 'g', -1, 64)
				}
			}
		}
	}
	return out, nil
}

func madeOrders(in io.Reader) (out [][]string, err error) {
	d := json.NewDecoder(in)
	for {
		var o struct {
			Ref, Order, Buyer, Supplier string
			Lines                       []struct {
				No, Qty, Price   *float64
				Item, Text, Unit string
			}
		}
		if err := d.Decode(&o); err == io.EOF {
			return out, nil
		} else if err != nil {
			return nil, err
		}
		number := func(n *float64) string {
			if n == nil {
				return ""
			}
			return strconv.FormatFloat(*n, 'g', -1, 64)
		}
		row := []string{o.Ref, o.Order, o.Buyer, o.Supplier}
		for _, l := range o.Lines {
			row = append(row, number(l.No), l.Item, l.Text, number(l.Qty), l.Unit, number(l.Price))
		}
		out = append(out, row)
	}
}

// plainObservations reads results: of each its message's number and its own fields.
func plainObservations(in []byte) (out [][]string, err error) {
	if bytes.Count(in, []byte("MSH")) != bytes.Count(in, []byte(`MSH|^~\&|`)) || bytes.ContainsAny(in, "\x0b\x1c") {
		return nil, errElse
	}
	escapes := strings.NewReplacer(`\T\`, "&", `\F\`, "|", `\S\`, "^", `\R\`, "~", `\E\`, `\`)
	id := ""
	for line := range strings.FieldsFuncSeq(string(in), func(c rune) bool { return c == '\r' || c == '\n' }) {
		fields := append(strings.Split(strings.TrimLeft(line, " \t"), "|"), make([]string, 12)...)
		value := func(n, component int) string {
			repetition, _, _ := strings.Cut(fields[n], "~")
			all := append(strings.Split(repetition, "^"), make([]string, 2)...)
			sub, _, _ := strings.Cut(all[component-1], "&")
			if sub == `""` {
				return ""
			}
			return escapes.Replace(sub)
		}
		switch fields[0] {
		case "MSH":
			id = value(9, 1)
		case "OBX":
			out = append(out, []string{id, value(1, 1), value(2, 1), value(3, 1), value(3, 2), value(5, 1), value(6, 1), value(7, 1), value(8, 1), value(11, 1)})
		}
	}
	return out, nil
}

func madeObservations(in io.Reader) (out [][]string, err error) {
	rows, err := madeRows(in)
	for _, r := range rows {
		out = append(out, append([]string{r[0]}, r[8:]...))
	}
	return out, err
}

// madeRows reads CSV, without its heading.
func madeRows(in io.Reader) ([][]string, error) {
	rows, err := csv.NewReader(in).ReadAll()
	return rows[min(1, len(rows)):], err
}

// plainSamples reads JSON as the standard library does: a row for each result.
func plainSamples(in []byte, lines bool) (out [][]string, err error) {
	text := func(v any) string {
		switch v := v.(type) {
		case nil:
			return ""
		case map[string]any, []any:
			err = errElse
			return ""
		default:
			return fmt.Sprint(v)
		}
	}
	at := func(v any, path string) any {
		for name := range strings.SplitSeq(path, "/") {
			object, is := v.(map[string]any)
			if !is && v != nil {
				err = errElse
			}
			v = object[name]
		}
		return v
	}
	d := json.NewDecoder(bytes.NewReader(in))
	d.UseNumber()
	for {
		var v any
		if bad := d.Decode(&v); bad == io.EOF {
			return out, err
		} else if bad != nil {
			return nil, bad
		}
		samples := []any{v}
		if !lines {
			list, is := at(v, "samples").([]any)
			if samples = list; !is {
				return nil, errElse
			}
		}
		for _, s := range samples {
			results, is := at(s, "results").([]any)
			if !is {
				return nil, errElse
			}
			for _, r := range results {
				var row []string
				for _, path := range nestedFields {
					of := r
					if above, is := strings.CutPrefix(path, "2/"); is {
						of, path = s, above
					}
					row = append(row, text(at(of, path)))
				}
				out = append(out, row)
			}
		}
	}
}
