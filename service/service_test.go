package service

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/value"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/workspace"
)

func compiled(t *testing.T, name string) *route.Compiled {
	t.Helper()
	w, err := workspace.Load(os.DirFS("../demo/workspace"))
	if err != nil {
		t.Fatal(err)
	}
	c, findings := route.Compile(w, name)
	if c == nil {
		t.Fatal(findings)
	}
	return c
}

func try(t *testing.T, name, content string, request TrialRequest) *Trial {
	t.Helper()
	facts := lang.Facts{Route: name, Now: value.Moment{Year: 2026, Month: 11, Day: 25, Precision: value.Second}, Name: "sheet.csv"}
	trial, err := Try(context.Background(), compiled(t, name), One(strings.NewReader(content), facts.Name), flow.Inputs{Facts: facts}, request)
	if err != nil {
		t.Fatal(err)
	}
	return trial
}

const heading = "specimen_id,animal_tag,species,station,collected_at,sex,weight_kg,note,test_code,priority\n"

func sheet(n int, bad func(i int) bool) string {
	var b strings.Builder
	b.WriteString(heading)
	for i := range n {
		weight := "36.5"
		if bad(i) {
			weight = "n/a"
		}
		fmt.Fprintf(&b, "AP-%06d,T-1,GS,Ansel Point,24/11/2026 06:30,Male,%s,\"a|b\nc\",WBC,routine\n", i, weight)
	}
	return b.String()
}

func TestTryShowsRecords(t *testing.T) {
	content := sheet(10_000, func(i int) bool { return i%1000 == 7 })
	tests := []struct {
		request TrialRequest
		records []int64
		more    bool
	}{
		{TrialRequest{From: 1, Limit: 3}, []int64{1, 2, 3}, true},
		{TrialRequest{From: 9998, Limit: 5}, []int64{9998, 9999, 10000}, false},
		{TrialRequest{From: 1, Limit: 3, Rejected: true}, []int64{8, 1008, 2008}, true},
		{TrialRequest{From: 8009, Limit: 3, Rejected: true}, []int64{9008}, false},
		{TrialRequest{From: 20_000, Limit: 3}, nil, false},
	}
	for _, test := range tests {
		trial := try(t, "specimen-orders", content, test.request)
		var got []int64
		for _, r := range trial.Records {
			got = append(got, r.Record)
		}
		if fmt.Sprint(got) != fmt.Sprint(test.records) || trial.More != test.more {
			t.Errorf("%+v shows %v, more %v", test.request, got, trial.More)
		}
	}
	// A quote inside a value is taken as data, with a warning.
	odd := strings.Split(content, "AP-")
	for _, i := range []int{5, 8, 2005} {
		odd[i] = strings.Replace(odd[i], "T-1", "T\"1", 1)
	}
	for _, test := range []struct {
		request TrialRequest
		records []int64
	}{
		{TrialRequest{From: 1, Limit: 9, Warned: true}, []int64{5, 8, 2005}},
		{TrialRequest{From: 6, Limit: 3, Warned: true, Rejected: true}, []int64{8, 1008, 2005}},
		{TrialRequest{From: 6, Limit: 2, Rejected: true}, []int64{8, 1008}},
	} {
		trial := try(t, "specimen-orders", strings.Join(odd, "AP-"), test.request)
		var got []int64
		for _, r := range trial.Records {
			got = append(got, r.Record)
		}
		if fmt.Sprint(got) != fmt.Sprint(test.records) || !trial.More && !strings.HasSuffix(trial.Balance.String(), ", 3 warnings") {
			t.Errorf("%+v shows %v of %s", test.request, got, trial.Balance)
		}
	}
	trial := try(t, "specimen-orders", content, TrialRequest{From: 7, Limit: 2})
	good, bad := trial.Records[0], trial.Records[1]
	if good.Outcome != "good" || good.Line != 14 || good.Became[0].Files[0].Name != "AP-000006-000007.hl7" || good.Fields[7].Value != "a|b\nc" || len(good.Findings) != 0 {
		t.Errorf("%+v", good)
	}
	note := ""
	for _, l := range good.Became[0].Lines {
		if l.Path == "NTE-3" {
			note = l.Value
		}
	}
	if note != "a|b\nc" || !strings.Contains(good.Became[0].Made, `NTE|1||a\F\b\.br\c`) {
		t.Errorf("the note is %q in %q", note, good.Became[0].Made)
	}
	if bad.Outcome != "rejected" || len(bad.Became) != 0 || len(bad.Findings) != 1 || bad.Findings[0].Place.Path != "weight_kg" || !strings.HasPrefix(bad.Raw, "AP-000007,") || strings.HasSuffix(bad.Raw, "\n") {
		t.Errorf("%+v", bad)
	}
}

func TestTryWholeFiles(t *testing.T) {
	var good, bad strings.Builder
	trial := try(t, "specimen-orders", sheet(5000, func(i int) bool { return i%100 == 0 }), TrialRequest{Whole: true, Output: &good, Rejects: &bad})
	if trial.Balance.In != 5000 || strings.Count(good.String(), "MSH|") != 4950 || strings.Count(bad.String(), "n/a") != 50 || !strings.HasPrefix(bad.String(), heading) {
		t.Errorf("%+v, %d and %d bytes", trial.Balance, good.Len(), bad.Len())
	}
}

func TestTryUnreadableAndBroken(t *testing.T) {
	trial := try(t, "specimen-orders", "a,b\n1,2\n", TrialRequest{Limit: 5, From: 1})
	if !trial.Unreadable || !trial.Findings.HasErrors() || len(trial.Records) != 0 {
		t.Errorf("%+v", trial)
	}
	var bad strings.Builder
	trial = try(t, "specimen-orders", heading+"AP-0001,\"open\n", TrialRequest{Limit: 5, From: 1, Rejects: &bad, Whole: true})
	if len(trial.Records) != 1 || trial.Records[0].Outcome != "rejected" || trial.Records[0].Findings[0].Code != "csv.quote-unclosed" || bad.String() != heading+"AP-0001,\"open\n" {
		t.Errorf("%+v %q", trial.Records, bad.String())
	}
}

// TestHub: a watcher that does not listen holds nobody up, and sees by the gap
// in the numbers that it has missed something.
func TestHub(t *testing.T) {
	var h hub
	lazy, stopLazy := h.watch()
	keen, stopKeen := h.watch()
	defer stopLazy()
	for i := range 300 {
		h.tell(run.Event{Kind: "pickup", Pickup: int64(i)}, 0)
		if e := <-keen; e.ID != uint64(i+1) || e.Pickup != int64(i) {
			t.Fatalf("%+v", e)
		}
	}
	stopKeen()
	for range 256 {
		<-lazy
	}
	h.tell(run.Event{Kind: "pickup"}, 0)
	if e := <-lazy; e.ID != 301 {
		t.Errorf("after the gap comes %d", e.ID)
	}
}

// TestHubGoesOn: whoever names the last event that came gets what came since, as long as it
// is kept, and is told when it is not.
func TestHubGoesOn(t *testing.T) {
	var h hub
	begin := h.watchFrom("")
	if begin.Missed || len(begin.Behind) > 0 {
		t.Fatalf("%+v", begin)
	}
	for told := 0; told < 3*keptEvents; told++ {
		h.tell(run.Event{Kind: "pickup", Pickup: int64(told + 1)}, 0)
		for _, back := range []int{0, 1, 5, keptEvents, keptEvents + 1} {
			id := told + 1 - back
			if id < 0 || told%97 != 0 && told+1 != keptEvents {
				continue
			}
			w := h.watchFrom(begin.Mark(uint64(id)))
			w.Stop()
			if gone := back > keptEvents; w.Missed != gone || !gone && len(w.Behind) != back {
				t.Fatalf("%d events, %d back: missed %v, %d", told+1, back, w.Missed, len(w.Behind))
			}
			for i, e := range w.Behind {
				if e.ID != uint64(id+1+i) || e.Pickup != int64(id+1+i) {
					t.Fatalf("%d events, %d back: %+v", told+1, back, w.Behind)
				}
			}
		}
	}
	for _, mark := range []string{"x", "other-3", begin.Mark(5 * keptEvents), begin.Mark(0) + "x"} {
		if w := h.watchFrom(mark); !w.Missed || len(w.Behind) > 0 {
			t.Errorf("%s: %+v", mark, w)
		}
	}
}

func TestStagesSayWhatARouteDoes(t *testing.T) {
	s := &Service{Config: Config{Data: "/data", Environment: &workspace.Environment{Name: "x", Places: workspace.Folders(map[string]string{"stations": "stations", "laboratory": "/mnt/lab"})}}}
	for name, says := range map[string][]string{
		"specimen-orders": {"Picks up files named *.csv from /data/stations/inbox.", "Reads CSV in utf-8, separated by commas; the first line names the columns.", "Checks 10 fields against schemas/specimen-sheet.json.", "more than 50% rejected", "one file for each record to /mnt/lab/orders"},
		"weight-log":      {"whose name matches ^weights-", "and its subfolders.", "windows-1252, separated by semicolons", "one file for each pickup to /mnt/lab/results, named {file.stem}.hl7"},
	} {
		c := compiled(t, name)
		var all strings.Builder
		for _, stage := range s.stages(c, store.Tally{}) {
			all.WriteString(stage.Sentence + " " + strings.Join(stage.Details, " ") + "\n")
		}
		for _, part := range says {
			if !strings.Contains(all.String(), part) {
				t.Errorf("%s does not say %q but\n%s", name, part, all.String())
			}
		}
	}
}

// TestTryFolds: rows of a long list are left out, and said to be; a row with a finding is not.
func TestTryFolds(t *testing.T) {
	var rows strings.Builder
	rows.WriteString("order,for,article,description,quantity,unit,price,wanted\n")
	for i := range 4000 {
		fmt.Fprintf(&rows, "SC-1,LAB,HR-%03d,Saline,2,each,1.15,\n", i%900)
	}
	total := func(lines []format.Line) (sum int) {
		for _, l := range lines {
			sum += max(1, l.Folded)
		}
		return sum
	}
	for wanted, fields := range map[int]int{0: 3*8 + 1, 50: 50*8 + 1} {
		r := try(t, "reagent-orders", rows.String(), TrialRequest{From: 1, Limit: 1, Rows: wanted}).Records[0]
		if len(r.Fields) != fields+1 || total(r.Fields) != 20_001 || r.Fields[len(r.Fields)-1].Value != "the record has more than is shown here" {
			t.Errorf("%d rows: %d lines for %d values, at the end %+v", wanted, len(r.Fields), total(r.Fields), r.Fields[len(r.Fields)-1])
		}
	}
	few := strings.Join(strings.SplitAfter(rows.String(), "\n")[:101], "")
	r := try(t, "reagent-orders", strings.Replace(few, "HR-070", "HR-7", 1), TrialRequest{From: 1, Limit: 1}).Records[0]
	at := slices.IndexFunc(r.Fields, func(l format.Line) bool { return l.Path == "article[71]" && l.Value == "HR-7" })
	if r.Outcome != "rejected" || total(r.Fields) != 800 || len(r.Fields) != 3*8+3 || at < 0 {
		t.Errorf("%s: %d lines for %d values; %+v", r.Outcome, len(r.Fields), total(r.Fields), r.Fields)
	}
	r = try(t, "reagent-orders", few, TrialRequest{From: 1, Limit: 1}).Records[0]
	lines := r.Became[0].Lines
	if last := lines[len(lines)-1]; r.Outcome != "good" || last.Path != "SE-2" || !strings.HasPrefix(last.Value, "0") || len(lines) > 60 {
		t.Errorf("%d lines, the last %+v", len(lines), last)
	}
}

// TestTooMuchIsMade: a record that would make more of its message than can be held is rejected; those
// beside it are not, and none is lost.
func TestTooMuchIsMade(t *testing.T) {
	rows := func(order string, n int) (out string) {
		for i := range n {
			out += fmt.Sprintf("%s,LAB,HR-%03d,Saline,2,each,1.15,\n", order, i)
		}
		return out
	}
	heading := "order,for,article,description,quantity,unit,price,wanted\n"
	run := func(file string) (*Trial, string) {
		c := compiled(t, "reagent-orders")
		c.Plan.Branches[0].Program.Most = 3000
		var good strings.Builder
		r, err := Try(context.Background(), c, One(strings.NewReader(file), "x"), flow.Inputs{Facts: lang.Facts{Now: value.Moment{Year: 2026, Month: 11, Day: 25, Precision: value.Second}}}, TrialRequest{From: 1, Limit: 100, Whole: true, Output: &good})
		if err != nil {
			t.Fatal(err)
		}
		return r, good.String()
	}
	r, made := run(heading + rows("SC-1", 2) + rows("SC-2", 900) + rows("SC-3", 3))
	if r.Balance.In != 905 || r.Balance.Merged != 902 || r.Balance.Good != 2 || r.Balance.Rejected != 1 || strings.Count(made, "\nPO1*")+strings.Count(made, "~PO1*") != 5 || strings.Contains(made, "SC-2") {
		t.Errorf("%+v\n%s", r.Balance, made)
	}
	if f := r.Records[1].Findings; len(f) != 1 || f[0].Code != "map.large" || f[0].Place.Line != 4 || f[0].Place.Record != 2 {
		t.Errorf("%+v", f)
	}
	many := heading
	for i := range 50 {
		many += rows(fmt.Sprintf("SC-%d", i), 1)
	}
	r, made = run(many)
	if b := r.Balance; b.In != 50 || b.Good+b.Rejected != 50 || b.Good < 5 || b.Good > 20 || int64(strings.Count(made, "ST*850*")) != b.Good || len(made) > 3600 {
		t.Errorf("%+v, %d bytes", b, len(made))
	}
}

// TestTriedAsTheRouteTolerates: how many records may be wrong is asked of records, not of the rows that they are made of.
func TestTriedAsTheRouteTolerates(t *testing.T) {
	const rows = "order,n\nA,1\nA,2\nA,3\nB,x\nC,5\nC,6\n" // three records, one of them wrong
	for tolerate, refused := range map[string]bool{"30%": true, "34%": false} {
		c, findings := route.Compile(workspace.FromFiles(map[string][]byte{
			"routes/r.yaml":  []byte("route: r\nlisten: {folder: in}\nread: {format: csv, together: [order]}\ncheck: {schema: schemas/s.json, tolerate: " + tolerate + "}\ndeliver: {folder: out, name: \"{file.name}\"}\nrejected: {folder: bad}\n"),
			"schemas/s.json": []byte(`{"fields": [{"name": "order"}, {"name": "n", "type": "number"}]}`),
		}), "r")
		if c == nil {
			t.Fatal(findings)
		}
		r, err := Try(context.Background(), c, One(strings.NewReader(rows), "x"), flow.Inputs{}, TrialRequest{From: 1, Limit: 10, Whole: true})
		if err != nil || r.Refused != refused || r.Balance.Records() != 3 || r.Balance.Rejected != 1 {
			t.Errorf("%s: %v %+v %v", tolerate, r.Refused, r.Balance, err)
		}
	}
}
