// Package formattest is the contract that each format keeps, as one test.
package formattest

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/format"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// Case is a file and what is wanted of it.
type Case struct {
	Name   string
	File   string
	Source format.Source // nil: as the format is usually read
	Fields []string      // paths
	Lists  []shape.List
	Rows   []string // those of each record, as text; nil: they are not looked at
	// Records is how many records there are.
	Records int
	// Wrong tells that something is wrong with the file as a whole.
	Wrong bool
}

// Contract checks a format against what all formats promise:
//
//   - whatever the size of batches and of what is read at once, and on however many cores a file is
//     split, records, values, findings and places are the same;
//   - two fields may stand in one place;
//   - a good record's raw text, behind the heading, is a file with that record and the same values;
//   - a value that stands in the file as it is stands where it is located, to the byte;
//   - the parts that are shown of a record lie in each other and in its text, and are the values that are
//     surveyed;
//   - records that become JSON objects and are written again are the same records;
//   - a file that is cut anywhere does no harm, and what stands whole before the cut stays what it was.
func Contract(t *testing.T, f *format.Format, cases ...Case) {
	if f.Name == "" || f.Title == "" || f.Makes == "" || f.Nothing == "" || f.Recognise == nil || f.Settings == nil || f.Usual == nil || f.Target == nil || (f.Record == "") != (f.Type != nil) || (f.Objects == nil) != (f.Written == nil) {
		t.Errorf("%s does not say all of itself", f.Name)
	}
	for _, c := range cases {
		t.Run(c.Name, func(t *testing.T) {
			if c.Source == nil {
				c.Source = f.Usual
			}
			k := &contract{t: t, Case: c, format: f}
			k.shape = shape.Shape{Fields: shape.Of(c.Fields...)}
			whole := k.read(c.File, way{})
			if len(whole.records) != c.Records || (len(whole.wrong) > 0) != c.Wrong {
				t.Fatalf("%d records, not %d; %q", len(whole.records), c.Records, whole.wrong)
			}
			if k.shape = (shape.Shape{Fields: shape.Of(c.Fields...), Lists: c.Lists}); c.Rows != nil {
				k.rows()
			}
			k.anyWay(whole)
			k.twins(whole)
			k.again(whole)
			k.places(whole)
			k.parts()
			k.objects(whole)
			k.cut(whole)
		})
	}
}

type contract struct {
	Case
	t      *testing.T
	format *format.Format
	shape  shape.Shape
}

// way is how a file is read: in batches of a size, in pieces of a size, split on several cores at once.
type way struct {
	size, piece int
	together    bool
}

// result is what a file gave.
type result struct {
	records []record
	wrong   []string // with the file as a whole
	heading string
}

// record is what is known of a record, with all that is found in text.
type record struct {
	values  []string
	rows    string  // of its lists
	at      []int64 // where each value is located in the file, -1: it is not there
	written []bool  // the value stands there as it is
	raw     string
	found   []string
	bad     bool
	span    string // its text in the file
}

func (r record) String() string {
	return fmt.Sprintf("%q %s %v %q %v", r.values, r.rows, r.at, r.raw, r.found)
}

// rows are those of the lists of a row of a table, or of a record (-1), as text: [a,b{[c][d]}].
func rows(b *batch.Batch, above, row int) string {
	var out strings.Builder
	for n, t := range b.Tables {
		if t.Above != above {
			continue
		}
		out.WriteByte('{')
		from, to := b.Rows(n, row)
		for i := from; i < to; i++ {
			out.WriteByte('[')
			for k, s := range t.Spans[i*t.Slots : (i+1)*t.Slots] {
				if k > 0 {
					out.WriteByte(',')
				}
				switch {
				case s == batch.Null:
					out.WriteString("null")
				case s.Absent():
					out.WriteString("-")
				default:
					out.Write(b.Buf[s.Off:s.End])
				}
			}
			out.WriteString(rows(b, n, i))
			out.WriteByte(']')
		}
		out.WriteByte('}')
	}
	return out.String()
}

// rows checks the rows of lists against what was written down for each record, and that they are the same
// any way, and when a record is read again by itself.
func (k *contract) rows() {
	whole := k.read(k.File, way{})
	for i, r := range whole.records {
		if i >= len(k.Rows) || r.rows != k.Rows[i] {
			k.t.Errorf("record %d has the rows\n%s, not\n%s", i+1, r.rows, k.Rows[min(i, len(k.Rows)-1)])
		}
	}
	k.anyWay(whole)
	k.again(whole)
	k.shape.Lists = nil
}

func (k *contract) open(file string, w way) (format.Reader, finding.List) {
	k.t.Helper()
	var in io.Reader = strings.NewReader(file)
	if w.piece > 0 {
		in = &pieces{in, w.piece}
	}
	set := text.UTF8
	if k.format.Declares {
		set = text.Declared
	}
	decoded, err := text.Decode(in, set)
	if err != nil {
		k.t.Fatal(err)
	}
	bound, findings := k.Source.Bind(k.shape)
	if bound == nil {
		k.t.Fatal(findings)
	}
	r, more, err := bound.Open(decoded)
	if findings = append(findings, more...); err != nil {
		k.t.Fatal(err)
	}
	if small, can := r.(interface{ Batches(size int) }); can && w.size > 0 {
		small.Batches(w.size)
	}
	return r, findings
}

func (k *contract) read(file string, w way) result {
	k.t.Helper()
	r, findings := k.open(file, w)
	var out result
	say := func(list finding.List) {
		for _, f := range list {
			if f.Severity == finding.Error {
				out.wrong = append(out.wrong, fmt.Sprintf("%s +%d", f.Code, f.Place.Offset))
			}
		}
	}
	say(findings)
	if r == nil {
		return out
	}
	out.heading = string(r.Heading())
	var all []*batch.Batch
	var broken *format.Broken
	var splitting sync.WaitGroup
	for more := true; more; {
		b := &batch.Batch{}
		var err error
		more, err = r.Cut(b)
		if err != nil && !errors.As(err, &broken) {
			k.t.Fatal(err)
		}
		more = more && err == nil
		if w.together {
			splitting.Go(func() { r.Split(b) })
		} else {
			r.Split(b)
		}
		all = append(all, b)
	}
	splitting.Wait()
	first := int64(1)
	for _, b := range all {
		b.First = first
		first += int64(b.Records())
		if len(b.Spans) != b.Records()*b.Slots || b.Slots != len(k.Fields) {
			k.t.Fatalf("%d spans of %d records with %d fields", len(b.Spans), b.Records(), b.Slots)
		}
		for i := range b.Records() {
			out.records = append(out.records, k.record(r, b, i))
		}
	}
	if broken != nil {
		say(finding.List{broken.Finding})
		rest, err := io.ReadAll(broken.Rest)
		if err != nil {
			k.t.Fatal(err)
		}
		out.wrong = append(out.wrong, string(rest))
		return out
	}
	say(r.Finish(first - 1))
	return out
}

func (k *contract) record(r format.Reader, b *batch.Batch, i int) record {
	out := record{raw: string(r.Raw(b, i)), span: string(b.Raw(i))}
	for slot := range k.Fields {
		span := b.Spans[i*b.Slots+slot]
		at, _ := r.Locate(b, i, slot)
		v, there := b.Value(i, slot)
		out.written = append(out.written, there && int(span.End) <= b.N)
		switch {
		case span == batch.Null:
			v = []byte("null")
		case !there:
			v = []byte("absent")
		}
		out.values = append(out.values, string(v))
		if there {
			out.at = append(out.at, b.Base+int64(at))
		} else {
			out.at = append(out.at, -1)
		}
	}
	if len(b.Tables) > 0 {
		out.rows = rows(b, -1, i)
	}
	for _, n := range b.Notes {
		if int(n.Record) == i {
			f := r.Describe(b, n)
			out.found = append(out.found, fmt.Sprintf("%s %s +%d line %d column %d: %s", f.Severity, f.Code, f.Place.Offset, f.Place.Line, f.Place.Column, f.Message))
			out.bad = out.bad || !n.Warn
		}
	}
	slices.Sort(out.found)
	return out
}

// pieces reads so many bytes at once.
type pieces struct {
	io.Reader
	most int
}

func (p *pieces) Read(b []byte) (int, error) { return p.Reader.Read(b[:min(len(b), p.most)]) }

func (k *contract) anyWay(whole result) {
	for _, size := range []int{0, 1, 40, 300, 5000} {
		for _, piece := range []int{0, 1, 13} {
			for _, together := range []bool{false, true} {
				w := way{size, piece, together}
				got := k.read(k.File, w)
				if !slices.Equal(got.wrong, whole.wrong) || got.heading != whole.heading {
					k.t.Errorf("%+v: %q %q, not %q %q", w, got.heading, got.wrong, whole.heading, whole.wrong)
				}
				if differs(k.t, got.records, whole.records) {
					k.t.Errorf("that was read as %+v", w)
					return
				}
			}
		}
	}
}

// differs tells of the first record that is another one.
func differs(t *testing.T, got, want []record) bool {
	t.Helper()
	for i := range want {
		if i >= len(got) {
			t.Errorf("record %d is missing: %s", i+1, want[i])
			return true
		}
		if got[i].String() != want[i].String() {
			t.Errorf("record %d is\n%s, not\n%s", i+1, got[i], want[i])
			return true
		}
	}
	if len(got) > len(want) {
		t.Errorf("there are %d records too many, such as %s", len(got)-len(want), got[len(want)])
	}
	return len(got) > len(want)
}

// twins holds that two fields for one place have the same values.
func (k *contract) twins(whole result) {
	if len(k.Fields) == 0 {
		return
	}
	double := *k
	double.Fields = append(slices.Clone(k.Fields), k.Fields...)
	double.shape.Fields = shape.Of(double.Fields...)
	for i, r := range double.read(k.File, way{}).records {
		n := len(k.Fields)
		if !slices.Equal(r.values[:n], whole.records[i].values) || !slices.Equal(r.values[n:], r.values[:n]) {
			k.t.Errorf("record %d has %q for %q twice", i+1, r.values, k.Fields)
			return
		}
	}
}

func (k *contract) again(whole result) {
	for i, r := range whole.records {
		if r.bad {
			continue
		}
		again := k.read(whole.heading+r.raw, way{})
		if len(again.wrong) > 0 || len(again.records) != 1 || again.records[0].bad || !slices.Equal(again.records[0].values, r.values) || again.records[0].rows != r.rows {
			k.t.Errorf("record %d, %q, was\n%q and is\n%v when its text is read again: %q", i+1, r.raw, r.values, again.records, again.wrong)
			return
		}
	}
}

func (k *contract) places(whole result) {
	for i, r := range whole.records {
		for slot, v := range r.values {
			if !r.written[slot] || v == "" {
				continue
			}
			at := r.at[slot]
			if at < 0 || at >= int64(len(k.File)) {
				k.t.Errorf("record %d: %s is located at byte %d", i+1, k.Fields[slot], at)
				continue
			}
			if from := strings.TrimLeft(k.File[at:], `"`); !strings.HasPrefix(from, v) {
				k.t.Errorf("record %d: %s is %q, and at byte %d stands %.40q", i+1, k.Fields[slot], v, at, k.File[at:])
			}
		}
	}
}

func (k *contract) parts() {
	r, _ := k.open(k.File, way{})
	if r == nil {
		return
	}
	for more := true; more; {
		b := &batch.Batch{First: 1}
		var err error
		if more, err = r.Cut(b); err != nil {
			return
		}
		r.Split(b)
		bad := map[int32]bool{}
		for _, n := range b.Notes {
			bad[n.Record] = true
		}
		for i := range b.Records() {
			if !bad[int32(i)] {
				k.outline(r, r.Raw(b, i))
			}
		}
	}
}

func (k *contract) outline(r format.Reader, raw []byte) {
	var shown, surveyed []string
	nodes := r.Outline(raw)
	var open []format.Node
	for i, n := range nodes {
		if n.From < 0 || n.To < n.From || n.To > len(raw) {
			k.t.Errorf("%s %q stands at %d to %d of %d bytes", n.Kind, n.Path, n.From, n.To, len(raw))
			return
		}
		for len(open) > 0 && open[len(open)-1].Depth >= n.Depth {
			open = open[:len(open)-1]
		}
		if len(open) > 0 {
			above := open[len(open)-1]
			if n.From < above.From || n.To > above.To || above.Kind == format.Leaf {
				k.t.Errorf("%s %q (%d to %d) does not lie in %s %q (%d to %d)", n.Kind, n.Path, n.From, n.To, above.Kind, above.Path, above.From, above.To)
				return
			}
		}
		open = append(open, n)
		if n.Kind == format.Leaf && comparable(n.Value) {
			shown = append(shown, n.Value)
		}
		if i > 0 && n.From < nodes[i-1].From {
			k.t.Errorf("%q is shown behind %q, and stands before it", n.Path, nodes[i-1].Path)
		}
	}
	r.Survey(raw, func(path, value []byte) {
		if comparable(string(value)) {
			surveyed = append(surveyed, string(value))
		}
	})
	slices.Sort(shown)
	slices.Sort(surveyed)
	if !slices.Equal(shown, surveyed) {
		k.t.Errorf("shown is\n%q, surveyed\n%q", shown, surveyed)
	}
}

// comparable are values that are surveyed as they are shown: not those whose character set only the
// record says, what stands for no value, and separators.
func comparable(value string) bool {
	sign := len(value) == 1 && strings.ContainsAny(value, `|^~\\&>:+*?'`)
	return value != "" && value != "null" && !sign && text.IsASCII([]byte(value))
}

func (k *contract) objects(whole result) {
	if k.format.Objects == nil || len(whole.wrong) > 0 {
		return
	}
	written := k.format.Written(format.Style{})
	objects := func(file string) (out []string) {
		bare := *k
		bare.Source, bare.Fields, bare.shape = k.format.Usual, nil, shape.Shape{}
		r, _ := bare.open(file, way{})
		if r == nil {
			return nil
		}
		say := k.format.Objects()
		for more := true; more; {
			b := &batch.Batch{First: 1}
			var err error
			if more, err = r.Cut(b); err != nil {
				return out
			}
			r.Split(b)
			bad := map[int]bool{}
			for _, n := range b.Notes {
				bad[int(n.Record)] = bad[int(n.Record)] || !n.Warn
			}
			say(r, b, func(record int) bool { return !bad[record] }, func(record int, object []byte, err error) {
				if err != nil {
					k.t.Errorf("record %d is not an object: %v", record+1, err)
				}
				out = append(out, string(object))
			})
		}
		return out
	}
	before := objects(k.File)
	var file []byte
	for _, o := range before {
		var err error
		if file, err = written(file, []byte(o)); err != nil {
			k.t.Fatalf("%s cannot be written: %v", o, err)
		}
	}
	if after := objects(string(file)); !slices.Equal(after, before) {
		k.t.Errorf("the objects\n%s\nwere written as\n%s\nwhich are\n%s", strings.Join(before, "\n"), file, strings.Join(after, "\n"))
	}
}

// cut reads the file cut behind each of its bytes. What has come whole before is what it was, but for
// the last record, which may be cut, and for what a file says about itself as a whole.
func (k *contract) cut(whole result) {
	step := max(1, len(k.File)/400)
	for end := 0; end < len(k.File); end += step {
		file := k.File[:end]
		got := k.read(file, way{size: 40})
		if other := k.read(file, way{piece: 7}); !slices.Equal(got.wrong, other.wrong) || differs(k.t, got.records, other.records) {
			k.t.Errorf("cut at byte %d: %q, %q", end, got.wrong, other.wrong)
			return
		}
		if len(got.records) > len(whole.records)+1 { // what is cut may be no part of a record any more
			k.t.Errorf("cut at byte %d there are %d records, not %d", end, len(got.records), len(whole.records))
			return
		}
	}
}

// Linear holds that the text of all units of one large message, each with what it takes along, costs a
// number of times what that of fewer costs, and not that number squared: that text is no
// sibling's, and has what stands around.
func Linear(t *testing.T, f *format.Format, s format.Source, file func(units int) string, around string) {
	k := &contract{t: t, Case: Case{Source: s}, format: f}
	cost := func(units int) time.Duration {
		r, findings := k.open(file(units), way{})
		if r == nil {
			t.Fatal(findings)
		}
		b := &batch.Batch{First: 1}
		if _, err := r.Cut(b); err != nil {
			t.Fatal(err)
		}
		r.Split(b)
		if b.Records() != units {
			t.Fatalf("%d units, not %d", b.Records(), units)
		}
		began := time.Now()
		for i := range units {
			raw := r.Raw(b, i)
			if !bytes.Contains(raw, []byte(around)) || bytes.Count(raw, b.Raw(i)) != 1 || i > 0 && bytes.Contains(raw, b.Raw(i-1)) || len(raw) > 1000 {
				t.Fatalf("unit %d takes along %q", i, raw)
			}
		}
		return time.Since(began)
	}
	least := func(units int) time.Duration { return min(cost(units), cost(units), cost(units)) }
	if few, many := least(500), least(10_000); many > 150*few+50*time.Millisecond { // squared, it would be 400
		t.Errorf("500 units take %s, 10,000 %s", few, many)
	}
}
