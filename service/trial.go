package service

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"strconv"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/flow"
	"ydrion/core/format"
	"ydrion/core/lang"
	"ydrion/core/place"
	"ydrion/route"
	"ydrion/run"
)

// RecordView is one record, before and after.
type RecordView struct {
	Record   int64         `json:"record"`
	File     string        `json:"file,omitempty" doc:"that it is of, where the run is of several"`
	Line     int64         `json:"line" doc:"where it begins; where a text is looked for, of the row that has it"`
	Rows     int           `json:"rows,omitempty" doc:"how many rows went into it, where rows are put together"`
	Sources  []SourceRow   `json:"sources,omitempty" doc:"where those stand, as many as are shown of a list"`
	Outcome  string        `json:"outcome" enum:"good,rejected,filtered"`
	Raw      string        `json:"raw" doc:"the record as it stands in the file, decoded"`
	Fields   []format.Line `json:"fields" doc:"the source's fields by name"`
	Became   []Became      `json:"became" doc:"what it became, in each branch that it took"`
	Findings finding.List  `json:"findings"`
	// Explained is there if it was asked for, for each branch that the record took or, if it was rejected, might have.
	Explained []Explained `json:"explained,omitzero" doc:"what each line of the map did, if that was asked for; empty if no map was at work"`
}

// Explained is what a map did for a record.
type Explained struct {
	Branch string      `json:"branch,omitempty" doc:"its name, where the route has several"`
	Map    string      `json:"map,omitempty" doc:"its file"`
	Steps  []lang.Step `json:"steps"`
	More   int         `json:"more,omitempty" doc:"how many steps behind these are not shown"`
}

// SourceRow is where a row stands that went into a record with others.
type SourceRow struct {
	File string `json:"file,omitempty" doc:"where the run is of several"`
	Line int64  `json:"line"`
}

// Became is what a record became in a branch of its route.
type Became struct {
	Branch string        `json:"branch,omitempty" doc:"its name, where the route has several"`
	Made   string        `json:"made"`
	Lines  []format.Line `json:"lines" doc:"position by position"`
	Files  []FileTo      `json:"files,omitempty" doc:"the names at each destination that takes it, when outputs are named by records"`
}

// FileTo is the name of an output at a destination.
type FileTo struct {
	Destination int    `json:"destination" doc:"of the branch, from 0"`
	Name        string `json:"name"`
	Folder      string `json:"folder,omitempty" doc:"where it was delivered to, if it was"`
	first       int64  // the record that it begins with, where it is that of a value

	Said map[string]string `json:"said,omitempty" doc:"what goes with it where it is sent: addresses, subject, headers"`
}

// TrialRequest says which records of a file to look at.
type TrialRequest struct {
	From     int64 // first record, from 1
	Limit    int
	Rejected bool   // only those that are rejected, and
	Warned   bool   // those about which there is a warning
	Contains string // only those that have this text as they came; empty: all
	Rows     int    // how many rows of long lists to show; 0: FewRows
	Explain  bool   // say what each line of the map did, of the first 20 records that are shown
	Whole    bool   // go on to the end, for the balance
	Branch   int    // whose output is written, from 0
	run      bool   // what becomes of records has been delivered
	Output   io.Writer
	Rejects  io.Writer
}

// wants tells whether a record is one of those that were asked for.
func (r *TrialRequest) wants(b *batch.Batch, i int, what batch.Outcome) bool {
	return !r.Rejected && !r.Warned || r.Rejected && what == batch.Rejected || r.Warned && flow.Warned(b, i)
}

// mostExplained is of how many records at most it is said what the map did.
const mostExplained = 20

// FewRows is how many rows of long lists are shown if nobody says how many.
const FewRows = 3

// Trial is what a route makes of a file, without anything being delivered.
type Trial struct {
	Records    []RecordView `json:"records"`
	More       bool         `json:"more"`
	Balance    flow.Balance `json:"balance" doc:"of the records that were looked at"`
	Findings   finding.List `json:"findings" doc:"about the file as a whole"`
	Unreadable bool         `json:"unreadable"`
	Refused    bool         `json:"refused" doc:"what the file says of itself as a whole is not so: the route rejects it whole, with all its records"`
}

var errEnough = errors.New("enough records")

// viewer collects records while a route runs over a file.
type viewer struct {
	request TrialRequest
	opened  *flow.Opened
	trial   *Trial
	begun   bool // the output has a record
	rejects *flow.Rejects
	files   []flow.File
	maps    []string             // the file of each branch's map
	values  []map[string][]int64 // by branch, and value by which its outputs are told apart: the first record at each destination
}

var _ flow.Sink = (*viewer)(nil)

func (v *viewer) Open(o *flow.Opened) error {
	v.opened = o
	if v.request.Rejects == nil {
		return nil
	}
	rejects, err := o.Rejects(v.request.Rejects)
	v.rejects = rejects
	return err
}

func (v *viewer) Batch(b *batch.Batch) error {
	if v.request.Output != nil {
		if err := v.write(b); err != nil {
			return err
		}
	}
	if v.rejects != nil {
		for i, what := range b.Outcomes {
			if what != batch.Rejected {
				continue
			}
			raw, _ := v.opened.Rejected(b, i)
			if err := v.rejects.Record(raw); err != nil {
				return err
			}
		}
	}
	if v.request.run {
		v.firsts(b)
	}
	for i, what := range b.Outcomes {
		record := b.First + int64(i)
		if record < v.request.From || !v.request.wants(b, i, what) || v.request.Contains != "" && !bytes.Contains(b.Raw(i), []byte(v.request.Contains)) {
			continue
		}
		if len(v.trial.Records) >= v.request.Limit {
			v.trial.More = true
			break
		}
		v.trial.Records = append(v.trial.Records, v.view(b, i))
	}
	if v.trial.More && !v.request.Whole {
		return errEnough
	}
	return nil
}

// firsts notes with which records the outputs of values begin.
func (v *viewer) firsts(b *batch.Batch) {
	if v.values == nil {
		v.values = make([]map[string][]int64, len(b.Branches))
	}
	for k := range b.Branches {
		m, destinations := &b.Branches[k], len(v.opened.Plan.Branches[k].Outputs)
		for i := range m.Values {
			if m.Values[i] == nil || !b.In(k, i) || len(m.Made(i)) == 0 {
				continue
			}
			if v.values[k] == nil {
				v.values[k] = map[string][]int64{}
			}
			first := v.values[k][m.Values[i].Key]
			if first == nil {
				first = make([]int64, destinations)
				v.values[k][m.Values[i].Key] = first
			}
			for d, name := range m.Called(i, destinations) {
				if name != "" && first[d] == 0 {
					first[d] = b.First + int64(i)
				}
			}
		}
	}
}

// write writes what has been made of a batch.
func (v *viewer) write(b *batch.Batch) error {
	a := &v.opened.Assemblies[v.request.Branch]
	switch {
	case a.Branch().Program == nil:
		return nil
	case a.Branch().Separate:
		return a.Each(b, func(_ int, made []byte) error {
			v.begun = true
			_, err := v.request.Output.Write(made)
			return err
		})
	}
	made, err := a.All(b)
	if err == nil && len(made) > 0 {
		v.begun = true
		_, err = v.request.Output.Write(made)
	}
	return err
}

func (v *viewer) view(b *batch.Batch, i int) RecordView {
	raw := v.opened.Reader.Raw(b, i)
	r := RecordView{Record: b.First + int64(i), Line: b.Place(i, b.Bounds[i].Off).Line, Outcome: [...]string{"good", "rejected", "filtered"}[b.Outcomes[i]], Raw: strings.TrimRight(string(clip(raw)), "\r\n"),
		Fields: []format.Line{}, Became: []Became{}, Findings: v.opened.Findings(b, i)}
	if len(v.files) > 1 {
		r.File = v.files[b.FileOf(i)].Name
	}
	rows, found := cmp.Or(v.request.Rows, FewRows), map[string]bool{}
	for _, f := range r.Findings {
		found[f.Place.Path] = true
	}
	for _, l := range format.Fold(format.Lines(v.opened.Reader.Outline(raw)), rows, found) {
		l.Value = string(clip([]byte(l.Value)))
		r.Fields = append(r.Fields, l)
	}
	if v.opened.Plan.Schema.Rows {
		v.sources(b, i, rows, &r)
	}
	for k := range v.opened.Plan.Branches {
		if p := &v.opened.Plan.Branches[k]; b.In(k, i) && p.Program != nil {
			r.Became = append(r.Became, v.became(b, i, k, rows, found))
		}
	}
	if v.request.Explain && len(v.trial.Records) < mostExplained {
		r.Explained = []Explained{}
	}
	for k := range v.opened.Plan.Branches {
		if r.Explained == nil || !b.In(k, i) && b.Outcomes[i] == batch.Good {
			continue
		}
		if _, steps, more := v.opened.Explain(b, i, k); steps != nil {
			r.Explained = append(r.Explained, Explained{Branch: v.opened.Plan.Branches[k].Name, Map: v.maps[k], Steps: steps, More: more})
		}
	}
	if r.Findings == nil {
		r.Findings = finding.List{}
	}
	return r
}

// sources tells where the rows stand that went into a record.
func (v *viewer) sources(b *batch.Batch, i, most int, r *RecordView) {
	t := &b.Tables[0]
	from, to := uint32(0), t.Ends[i]
	if i > 0 {
		from = t.Ends[i-1]
	}
	r.Rows = int(to - from)
	told := false
	for row := from; row < to; row++ {
		at, end := t.At[row], b.Bounds[i].End
		if row+1 < to {
			end = t.At[row+1]
		}
		s := SourceRow{Line: b.Place(i, at).Line}
		if len(v.files) > 1 {
			s.File = v.files[b.FileAt(at)].Name
		}
		if int(row-from) < most {
			r.Sources = append(r.Sources, s)
		}
		if v.request.Contains != "" && !told && bytes.Contains(b.Buf[at:end], []byte(v.request.Contains)) {
			r.Line, r.File, told = s.Line, s.File, true
		}
		if int(row-from) >= most && (told || v.request.Contains == "") {
			break
		}
	}
}

// became shows what a record became in a branch.
func (v *viewer) became(b *batch.Batch, i, k, rows int, found map[string]bool) Became {
	p, m := &v.opened.Plan.Branches[k], &b.Branches[k]
	made := m.Made(i)
	made = made[min(p.Program.Skip(), len(made)):]
	lines := p.Target.Show(made)
	if lines == nil { // it is read as what came
		lines = format.Lines(v.opened.Reader.Outline(made))
	}
	out := Became{Branch: p.Name, Made: string(clip(made)), Lines: format.Fold(lines, rows, found)}
	if len(made) == 0 {
		return out
	}
	for d, name := range m.Called(i, len(p.Outputs)) {
		to := fileTo(d, name, "")
		if p.By != nil && v.request.run {
			to.first = v.values[k][m.Values[i].Key][d]
		}
		if name != "" && (name != flow.Unnamed || to.first > 0) {
			out.Files = append(out.Files, to)
		}
	}
	return out
}

// fileTo is an output at a destination, as its name and what goes with it were made.
func fileTo(destination int, made, folder string) FileTo {
	name, said := flow.Cut(made)
	return FileTo{Destination: destination, Name: name, Folder: folder, Said: saidOf(said)}
}

// clip bounds what is shown of a value.
func clip(b []byte) []byte { return b[:min(len(b), 64<<10)] }

func (v *viewer) Broken(b *format.Broken) error {
	f := b.Finding
	rest, err := io.ReadAll(io.LimitReader(b.Rest, 64<<10))
	if err != nil {
		return err
	}
	if v.rejects != nil {
		if err := v.rejects.Rest(io.MultiReader(bytes.NewReader(rest), b.Rest), func([]byte) {}); err != nil {
			return err
		}
	}
	if f.Place.Record < v.request.From {
		return nil
	}
	if v.request.Contains != "" {
		if has, err := contains(io.MultiReader(bytes.NewReader(rest), b.Rest), v.request.Contains); err != nil || !has {
			return err
		}
	}
	if len(v.trial.Records) >= v.request.Limit {
		v.trial.More = v.request.Contains != ""
		return nil
	}
	file := ""
	if len(v.files) > 1 {
		file = v.files[v.opened.File].Name
	}
	v.trial.Records = append(v.trial.Records, RecordView{Record: f.Place.Record, File: file, Line: f.Place.Line, Outcome: "rejected", Raw: string(rest), Fields: []format.Line{}, Became: []Became{}, Findings: finding.List{f}})
	return nil
}

// contains tells whether a text stands in what is read, however long that is.
func contains(in io.Reader, text string) (bool, error) {
	buf := make([]byte, 64<<10+len(text))
	for kept := 0; ; {
		n, err := io.ReadFull(in, buf[kept:])
		have := buf[:kept+n]
		switch {
		case bytes.Contains(have, []byte(text)):
			return true, nil
		case err == io.EOF || err == io.ErrUnexpectedEOF:
			return false, nil
		case err != nil:
			return false, err
		}
		kept = copy(buf, have[len(have)-len(text)+1:])
	}
}

// Try runs a route over files and shows what comes of it. Nothing is
// delivered or recorded.
func Try(ctx context.Context, c *route.Compiled, files []flow.File, inputs flow.Inputs, request TrialRequest) (*Trial, error) {
	trial := &Trial{Records: []RecordView{}, Findings: finding.List{}}
	if c.Plan.Unread {
		for k, f := range files {
			if err := tryUnread(c, k, f, len(files), inputs, request, trial); err != nil {
				return trial, err
			}
		}
		return trial, nil
	}
	v := &viewer{request: request, trial: trial, files: files}
	for _, b := range c.Branches {
		v.maps = append(v.maps, b.Map)
	}
	if c.OnlyChecked() && request.Output != nil { // they go on as they came
		v.request.Output, files = nil, copied(files, request.Output)
	}
	all, err := c.Plan.RunAll(ctx, files, inputs, v)
	if err == nil && v.begun {
		var ends []byte
		if ends, err = v.opened.Assemblies[request.Branch].Ends(); err == nil {
			_, err = request.Output.Write(ends)
		}
	}
	trial.Balance, trial.Unreadable = all.Sum(), true
	for k, r := range all.Files {
		for _, f := range r.Findings {
			if len(files) > 1 {
				f.Place.File = files[k].Name
			}
			trial.Findings = append(trial.Findings, f)
		}
		trial.Unreadable = trial.Unreadable && r.Unreadable
		trial.Refused = trial.Refused || r.Disagrees || c.OnlyChecked() && (r.Broken || r.Over(c.Tolerate))
	}
	if all.Unfinished != nil {
		trial.Findings, trial.Refused = append(trial.Findings, *all.Unfinished), true
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	return trial, err
}

// copied are files whose text is copied when it is read.
func copied(files []flow.File, to io.Writer) (out []flow.File) {
	for _, f := range files {
		open := f.Open
		f.Open = func() (io.ReadCloser, error) {
			in, err := open()
			return struct {
				io.Reader
				io.Closer
			}{io.TeeReader(in, to), in}, err
		}
		out = append(out, f)
	}
	return out
}

// One is a file that is read from its beginning once.
func One(in io.Reader, name string) []flow.File {
	return []flow.File{{Name: name, Event: "arrived", Open: func() (io.ReadCloser, error) { return flow.Unclosed(in), nil }}}
}

// tryUnread shows where a file would go that goes on as it is, the kth of so many.
func tryUnread(c *route.Compiled, k int, f flow.File, of int, inputs flow.Inputs, request TrialRequest, trial *Trial) error {
	if request.Contains != "" { // it has no records
		return nil
	}
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	inputs.Name, inputs.Folder, inputs.Event = f.Name, f.Folder, f.Event
	head := make([]byte, run.MostHead)
	n, err := io.ReadFull(in, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return err
	}
	head = head[:n]
	to := cmp.Or[io.Writer](request.Output, io.Discard)
	size, err := io.Copy(to, io.MultiReader(bytes.NewReader(head), in))
	if err != nil {
		return err
	}
	env := &lang.Env{Facts: inputs.Facts, Seq: 1}
	env.Head = head
	if env.Type, env.Size = run.TypeOf(head), size; c.Plan.Sequence && inputs.Sequence != nil {
		if env.Seq, err = inputs.Sequence(1); err != nil {
			return err
		}
	}
	r := RecordView{Record: int64(k + 1), Line: 1, Outcome: "good", Findings: finding.List{}, Became: []Became{}, Fields: []format.Line{{Path: "file.type", Value: env.Type}, {Path: "file.size", Value: strconv.FormatInt(size, 10)}}}
	names, problem := c.Plan.Branches[0].Names(env, nil, 0, nil)
	became := Became{Lines: []format.Line{}}
	for k, name := range names {
		if name != "" {
			became.Files = append(became.Files, fileTo(k, name, ""))
		}
	}
	r.Became = []Became{became}
	balance := flow.Balance{In: 1, Good: 1, Bytes: size}
	if of > 1 {
		r.File = f.Name
	}
	if problem != "" {
		r.Outcome, r.Became = "rejected", []Became{}
		balance.Good, balance.Rejected = 0, 1
		r.Findings = finding.List{finding.New("deliver.name", place.InFile(inputs.Name), "%s", problem)}
	}
	trial.Balance.Add(balance)
	if request.From <= r.Record && len(trial.Records) < request.Limit && (!request.Rejected && !request.Warned || request.Rejected && problem != "") {
		trial.Records = append(trial.Records, r)
	}
	return nil
}
