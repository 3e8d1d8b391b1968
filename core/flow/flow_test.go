package flow_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"testing/iotest"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/format/csv"
	"ydrion/core/format/hl7"
	"ydrion/core/format/json"
	"ydrion/core/lang"
	"ydrion/core/lookup"
	"ydrion/core/place"
	"ydrion/core/schema"
	"ydrion/core/text"
)

func read(t testing.TB, name string) string {
	t.Helper()
	b, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func plan(t testing.TB) *flow.Plan {
	t.Helper()
	s, findings := schema.Parse("specimens.json", []byte(read(t, "../../bench/workspace/schemas/specimens.json")))
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	table, findings := lookup.Parse("sex_codes.csv", read(t, "../../bench/workspace/lookups/sex_codes.csv"))
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	target, err := hl7.NewTarget("result.hl7", []byte(read(t, "../../bench/workspace/samples/result.hl7")))
	if err != nil {
		t.Fatal(err)
	}
	source := read(t, "../../bench/workspace/maps/specimens-to-results.map")
	m, findings := lang.Parse("results.map", source)
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	program, findings := lang.Build(m, "results.map", source, target, lang.Scope{Fields: s.Record, Lookups: lang.Tables{"sex_codes": table}})
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	bound, findings := csv.Dialect{}.Bind(s.Shape())
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	return &flow.Plan{Source: bound, Charset: text.UTF8, Schema: s, Branches: []flow.Branch{{Program: program, Target: target, After: []byte("\n")}}}
}

// collector keeps what a run gives out.
type collector struct {
	opened   *flow.Opened
	out      bytes.Buffer
	rejected []string
	findings []string
	rest     string
}

func (c *collector) Open(o *flow.Opened) error { c.opened = o; return nil }

func (c *collector) Batch(b *batch.Batch) error {
	c.out.Write(b.Branches[0].Out)
	for i, w := range b.Outcomes {
		if w == batch.Rejected {
			c.rejected = append(c.rejected, string(b.Raw(i)))
			c.findings = append(c.findings, c.opened.Findings(b, i)[0].String())
		}
	}
	return nil
}

func (c *collector) Broken(b *format.Broken) error {
	rest, err := io.ReadAll(b.Rest)
	c.rest = string(rest)
	return err
}

const header = "specimen_id,animal_tag,species_code,station,collected_at,sex,weight_kg,note,test_code,priority,lat,lon\n"

func TestRecordBecomesMessage(t *testing.T) {
	in := header +
		"SC1,T-1,GS,ST01,25/11/2026 06:30,Male,12.50,\"bite | left & ^ ~ \\\nsecond \"\"line\"\"\",WBC,R,57.1,-2.5\n" +
		"SC2,T-2,HS,ST02,25/11/2026 07:05,,abc,,WBC,R,57.1,-2.5\n" +
		"SC3,T-3,HS,ST02,31/02/2026 07:05,Female,9,,WBC,R,57.1,-2.5\n" +
		"SC4,T-4,HS,ST02,25/11/2026 07:05,Female,9,,WBC,R,57.1,-2.5\n"
	want := "MSH|^~\\&|SKERRY|ST01|LAB|SCSR|202611250630||ORU^R01^ORU_R01|SC1|P|2.5.1||||||UNICODE UTF-8\r" +
		"PID|1||T-1^^^SCSR||GS|||M\rOBR|1||SC1|WBC|R||202611250630\r" +
		"OBX|1|NM|WEIGHT||12.50|kg|||||F\rOBX|2|NM|LAT||57.1|deg|||||F\rOBX|3|NM|LON||-2.5|deg|||||F\r" +
		"OBX|4|TX|NOTE||bite \\F\\ left \\T\\ \\S\\ \\R\\ \\E\\\\.br\\second \"line\"||||||F\r\n" +
		"MSH|^~\\&|SKERRY|ST02|LAB|SCSR|202611250705||ORU^R01^ORU_R01|SC4|P|2.5.1||||||UNICODE UTF-8\r" +
		"PID|1||T-4^^^SCSR||HS|||F\rOBR|1||SC4|WBC|R||202611250705\r" +
		"OBX|1|NM|WEIGHT||9|kg|||||F\rOBX|2|NM|LAT||57.1|deg|||||F\rOBX|3|NM|LON||-2.5|deg|||||F\r\n"
	for _, cores := range []int{1, 2, 5} {
		c := &collector{}
		result, err := plan(t).Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, c)
		if err != nil {
			t.Fatal(err)
		}
		if got := c.out.String(); got != want {
			t.Errorf("%d cores: got\n%q\nwant\n%q", cores, got, want)
		}
		if result.In != 4 || result.Good != 2 || result.Rejected != 2 {
			t.Errorf("balance %+v", result.Balance)
		}
		wantFindings := []string{
			`4:35 record 2 weight_kg: error: weight_kg is not a number with a point as decimal mark: "abc" [schema.type]`,
			`5:17 record 3 collected_at: error: collected_at is not a date in the form dd/MM/yyyy HH:mm: "31/02/2026 07:05" [schema.type]`,
		}
		for i, w := range wantFindings {
			if i >= len(c.findings) || c.findings[i] != w {
				t.Errorf("finding %d: got %q, want %q", i, c.findings, w)
			}
		}
		first, err := hl7.Parse(bytes.SplitAfter(c.out.Bytes(), []byte("\n"))[0])
		if err != nil {
			t.Fatal(err)
		}
		if note, _ := first.Get("OBX[4]-5"); note != "bite | left & ^ ~ \\\nsecond \"line\"" {
			t.Errorf("the note is read back as %q", note)
		}
	}
}

// rows makes a file of n made-up rows, some with quotes, some bad.
func rows(n int) string {
	var b strings.Builder
	b.WriteString(header)
	notes := []string{"", "calm in transit", `"bite, left"`, `"said ""lively"" by crew"`, `"line one` + "\n" + `line two"`, "temp^38.1"}
	for i := range n {
		weight := "12.5"
		if i%33 == 7 {
			weight = "n/a"
		}
		b.WriteString("SC" + strings.Repeat("0", i%5) + "81,T-8K2,GS,ST0" + string(rune('1'+i%8)) + ",25/11/2026 06:3" + string(rune('0'+i%10)) + ",Male," + weight + "," + notes[i%len(notes)] + ",WBC,R,57.12,-2.5\n")
	}
	return b.String()
}

func TestSameForAnyCores(t *testing.T) {
	in := rows(20000)
	var first string
	for _, cores := range []int{1, 2, 3, 8} {
		c := &collector{}
		if _, err := plan(t).Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, c); err != nil {
			t.Fatal(err)
		}
		all := c.out.String() + strings.Join(c.findings, "\n") + strings.Join(c.rejected, "")
		if first == "" {
			first = all
		}
		if all != first {
			t.Errorf("%d cores give another result than one", cores)
		}
	}
}

// BenchmarkRows runs the routes of the benchmarks that read CSV.
func BenchmarkRows(b *testing.B) {
	in := rows(50000)
	run := func(p *flow.Plan) func(*testing.B) {
		return func(b *testing.B) {
			b.SetBytes(int64(len(in)))
			b.ReportAllocs()
			for b.Loop() {
				if _, err := p.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: 1}, discard{}); err != nil {
					b.Fatal(err)
				}
			}
		}
	}
	b.Run("to HL7", run(plan(b)))
	to, err := json.NewTarget("row.json", []byte(read(b, "../../bench/workspace/samples/row.json")))
	if err != nil {
		b.Fatal(err)
	}
	b.Run("to JSON", run(benched(b, "rows.json", "rows-to-objects.map", csv.Dialect{}, to)))
}

type discard struct{}

func (discard) Open(*flow.Opened) error     { return nil }
func (discard) Batch(*batch.Batch) error    { return nil }
func (discard) Broken(*format.Broken) error { return nil }

func TestBrokenRestIsOneRecord(t *testing.T) {
	good := "SC1,T-1,GS,ST01,25/11/2026 06:30,Male,12.5,calm,WBC,R,57.1,-2.5\n"
	bad := "SC2,T-1,GS,ST01,25/11/2026 06:30,Male,12.5,\"never closed,WBC,R,57.1,-2.5\n"
	for _, cores := range []int{1, 4} {
		for _, before := range []int{0, 1, 6000} {
			c := &collector{}
			in := header + strings.Repeat(good, before) + bad + strings.Repeat(good, 5000)
			result, err := plan(t).Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, c)
			if err != nil {
				t.Fatal(err)
			}
			if !result.Broken || result.In != int64(before+1) || result.Good != int64(before) || result.Rejected != 1 {
				t.Errorf("%d cores, %d before: %+v", cores, before, result.Balance)
			}
			if c.rest != bad+strings.Repeat(good, 5000) {
				t.Errorf("%d cores, %d before: the rest has %d bytes and begins %.60q", cores, before, len(c.rest), c.rest)
			}
			if p := result.Findings[0].Place; p.Line != int64(before+2) || p.Record != int64(before+1) || p.Column != 44 {
				t.Errorf("%d cores, %d before: at %v", cores, before, p)
			}
		}
	}
}

// namer names outputs after the record, to see that names follow their records.
func namer(t *testing.T, text string, p *flow.Plan) *lang.Template {
	t.Helper()
	node, findings := lang.ParseText("", text, text, 0)
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	n, findings := lang.CompileName([]lang.Node{node}, lang.Scope{Fields: p.Schema.Record}, func(int) place.Place { return place.Place{} })
	if findings.HasErrors() {
		t.Fatal(findings)
	}
	return n
}

// names keeps the file name of every good record with its message's id.
type names struct {
	collector
	list []string
}

func (n *names) Batch(b *batch.Batch) error {
	for i, w := range b.Outcomes {
		if w == batch.Good {
			n.list = append(n.list, b.Branches[0].Names[i]+" "+strings.Split(string(b.Branches[0].Made(i)), "|")[9])
		} else if b.Branches[0].Names[i] != "" {
			n.list = append(n.list, "a rejected record is called "+b.Branches[0].Names[i])
		}
	}
	return n.collector.Batch(b)
}

func TestNamesAndSequences(t *testing.T) {
	p := plan(t)
	p.Branches[0].Separate, p.Sequence = true, true
	p.Branches[0].Outputs = []flow.Output{{Name: namer(t, "{specimen_id}-{record}-{sequence}.hl7", p)}}
	var file strings.Builder
	file.WriteString(header)
	for i := range 9000 {
		id := fmt.Sprintf("SC%d", i)
		if i == 5 {
			id = "a/b"
		}
		weight := "1"
		if i == 7 {
			weight = "x"
		}
		file.WriteString(id + ",T-1,GS,ST01,25/11/2026 06:30,Male," + weight + ",calm,WBC,R,57.1,-2.5\n")
	}
	for _, cores := range []int{1, 3} {
		blocks := 0
		next := int64(1000)
		n := &names{}
		result, err := p.Run(context.Background(), strings.NewReader(file.String()), flow.Inputs{Cores: cores, Sequence: func(k int) (int64, error) {
			blocks++
			first := next
			next += int64(k)
			return first, nil
		}}, n)
		if err != nil {
			t.Fatal(err)
		}
		if result.Good != 8998 || result.Rejected != 2 || blocks < 2 || next != 10000 {
			t.Fatalf("%+v, %d blocks up to %d", result.Balance, blocks, next)
		}
		at := 0
		for i := range 9000 {
			if i == 5 || i == 7 {
				continue
			}
			if want := fmt.Sprintf("SC%d-%d-%d.hl7 SC%d", i, i+1, 1000+i, i); n.list[at] != want {
				t.Fatalf("%d cores: %q, want %q", cores, n.list[at], want)
			}
			at++
		}
		if !strings.Contains(n.findings[0], `record 6: error: no file can be named after this record: the name "a/b-6-1005.hl7" holds a slash`) {
			t.Errorf("%s", n.findings[0])
		}
	}
}

// stops is a sink that fails, or ends the run, after some batches.
type stops struct {
	discard
	after int
	cause error
	stop  func()
}

func (s *stops) Batch(*batch.Batch) error {
	if s.after--; s.after < 0 {
		s.stop()
		return s.cause
	}
	return nil
}

func TestEndsWhenItIsTold(t *testing.T) {
	in := rows(100_000)
	full := errors.New("disk full")
	for _, cores := range []int{1, 2, 4} {
		_, err := plan(t).Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, &stops{after: 2, cause: full, stop: func() {}})
		if !errors.Is(err, full) {
			t.Errorf("%d cores: the sink failed, but %v", cores, err)
		}
		ctx, cancel := context.WithCancel(context.Background())
		if _, err := plan(t).Run(ctx, strings.NewReader(in), flow.Inputs{Cores: cores}, &stops{after: 2, stop: cancel}); !errors.Is(err, context.Canceled) {
			t.Errorf("%d cores: cancelled, but %v", cores, err)
		}
		p := plan(t)
		p.Branches[0].Separate, p.Branches[0].Outputs, p.Sequence = true, []flow.Output{{Name: namer(t, "{sequence}", plan(t))}}, true
		if _, err := p.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores, Sequence: func(int) (int64, error) { return 0, full }}, discard{}); !errors.Is(err, full) {
			t.Errorf("%d cores: no numbers, but %v", cores, err)
		}
		if _, err := plan(t).Run(context.Background(), iotest.TimeoutReader(strings.NewReader(in)), flow.Inputs{Cores: cores}, discard{}); !errors.Is(err, iotest.ErrTimeout) {
			t.Errorf("%d cores: reading failed, but %v", cores, err)
		}
	}
}

// endless makes rows up as they are read.
type endless struct {
	row  string
	left int
	rest string
}

func (e *endless) Read(b []byte) (int, error) {
	if e.rest == "" {
		if e.left == 0 {
			return 0, io.EOF
		}
		e.left--
		e.rest = e.row
	}
	n := copy(b, e.rest)
	e.rest = e.rest[n:]
	return n, nil
}

// heap keeps the most memory that was in use when a batch was given out.
type heap struct {
	discard
	batches int
	most    uint64
}

func (h *heap) Batch(*batch.Batch) error {
	if h.batches++; h.batches%20 == 0 {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		h.most = max(h.most, m.HeapInuse)
	}
	return nil
}

// TestMemoryDoesNotGrow compares the heap of a run over ten thousand rows with
// that of one over half a million.
func TestMemoryDoesNotGrow(t *testing.T) {
	peak := func(n int) uint64 {
		runtime.GC()
		h := &heap{batches: 10}
		block := strings.Repeat("SC1,T-1,GS,ST01,25/11/2026 06:30,Male,12.5,\"calm, \"\"quiet\"\"\",WBC,R,57.1,-2.5\n", 100)
		in := io.MultiReader(strings.NewReader(header), &endless{row: block, left: n / 100})
		result, err := plan(t).Run(context.Background(), in, flow.Inputs{Cores: 2}, h)
		if err != nil || result.Good != int64(n) {
			t.Fatal(result.Balance, err)
		}
		return h.most
	}
	small, large := peak(50_000), peak(500_000)
	t.Logf("%d kB for 50,000 rows, %d kB for 500,000", small>>10, large>>10)
	if large > small+small/2+8<<20 {
		t.Errorf("the heap grew from %d kB to %d kB with the file", small>>10, large>>10)
	}
}

// defective is a source with a defect that shows at a certain batch.
type defective struct {
	format.Bound
	cut, split int32
}

type defectiveReader struct {
	format.Reader
	cuts, splits atomic.Int32
	d            defective
}

func (d defective) Open(in *text.Decoded) (format.Reader, finding.List, error) {
	r, findings, err := d.Bound.Open(in)
	return &defectiveReader{Reader: r, d: d}, findings, err
}

func (r *defectiveReader) Cut(b *batch.Batch) (bool, error) {
	if r.cuts.Add(1) == r.d.cut {
		panic("nobody thought of this")
	}
	return r.Reader.Cut(b)
}

func (r *defectiveReader) Split(b *batch.Batch) {
	if r.splits.Add(1) == r.d.split {
		var none []int
		_ = none[7]
	}
	r.Reader.Split(b)
}

func TestADefectIsAnErrorOfTheRun(t *testing.T) {
	in := rows(50_000)
	for _, cores := range []int{1, 2, 4} {
		for _, d := range []defective{{cut: 1}, {cut: 3}, {split: 1}, {split: 4}} {
			p := plan(t)
			d.Bound = p.Source
			p.Source = d
			_, err := p.Run(context.Background(), strings.NewReader(in), flow.Inputs{Cores: cores}, discard{})
			if err == nil || !strings.Contains(err.Error(), "a defect of this program, met while") || !strings.Contains(err.Error(), "flow_test.go") {
				t.Errorf("%d cores, %+v: %v", cores, d, err)
			}
		}
	}
}

// TestPeek makes texts from the first record alone.
func TestPeek(t *testing.T) {
	p := plan(t)
	file := header + "SC1,T-1,GS,ST01,25/11/2026 06:30,Male,1.5,calm,WBC,R,57.1,-2.5\n" + "SC2,T-1,GS,ST01,x,Male,1.5,calm,WBC,R,57.1,-2.5\n"
	facts := lang.Facts{Name: "sheet-7.csv"}
	made, problem, err := p.Peek(strings.NewReader(file), facts, namer(t, `{station} {collected_at | format "yyyy-MM-dd"}`, p), nil, namer(t, "{file.stem}", p))
	if err != nil || problem != "" || made[0] != "ST01 2026-11-25" || made[1] != "" || made[2] != "sheet-7" {
		t.Errorf("%q %q %v", made, problem, err)
	}
	for content, says := range map[string]string{"": "holds nothing", header: "no records", header + "SC1,T-1,GS,ST01,soon,Male,1.5,calm,WBC,R,57.1,-2.5\n": "soon"} {
		made, problem, err := p.Peek(strings.NewReader(content), facts, namer(t, `{station} {collected_at | format "yyyy-MM-dd"}`, p))
		if err != nil || !strings.Contains(problem, says) || made[0] != "" {
			t.Errorf("%q: %q %q %v", content, made, problem, err)
		}
	}
}

// TestExceptionsFit: a position means all within it, in any repetition, and nothing beside it.
func TestExceptionsFit(t *testing.T) {
	for _, test := range []struct {
		rule, at, code, path string
		want                 bool
	}{
		{"", "OBX-5", "standard.length", "OBX[3]-5.1", true}, {"", "OBX-5", "standard.length", "OBX[3]-5[2]", true}, {"", "OBX-5", "standard.length", "OBX-51", false}, {"", "OBX", "standard.place", "OBX[2]", true},
		{"", "OBX", "standard.place", "OBXX", false}, {"standard.length", "", "standard.length", "PID-3", true}, {"standard.length", "", "standard.form", "PID-3", false}, {"standard.length", "PID-3", "standard.length", "PID-5", false},
		{"", "NAD(BY)-2", "standard.length", "NAD(BY)-2.1", true}, {"", "NAD", "standard.length", "NAD(BY)-2.1", true}, {"", "OBX[2]-5", "standard.length", "OBX[1]-5", true},
	} {
		e := flow.Exception{Rule: test.rule, At: test.at}
		if got := e.Fits(format.Difference{Code: test.code, Path: test.path}); got != test.want {
			t.Errorf("%+v: %v", test, got)
		}
	}
}
