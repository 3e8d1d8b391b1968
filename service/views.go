package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"ydrion/core/formats"
	"ydrion/core/text"
	"ydrion/core/value"
	"ydrion/fetch"
	"ydrion/listen"
	"ydrion/route"
	"ydrion/run"
	"ydrion/store"
	"ydrion/timetable"
	"ydrion/wire"
	"ydrion/workspace"
)

// RouteView is a route as people see it in a list.
type RouteView struct {
	Name        string         `json:"name"`
	Notes       string         `json:"notes"`
	State       string         `json:"state" enum:"running,paused,stopped,failing"`
	PausedUntil *time.Time     `json:"paused_until,omitempty"`
	Leader      int64          `json:"leader" doc:"the node that listens for it, 0 if none does"`
	Problem     string         `json:"problem" doc:"why it is failing"`
	InEffect    bool           `json:"in_effect" doc:"whether the node that leads it works as it was last published, started, stopped or paused"`
	Revision    string         `json:"revision"`
	Number      int            `json:"revision_number"`
	PublishedAt time.Time      `json:"published_at"`
	Today       wire.Tally     `json:"today"`
	Waiting     int            `json:"waiting" doc:"files in the inbox that have not been taken"`
	Current     []run.Progress `json:"current" doc:"runs that are under way"`
}

// Sheet is a route with its stages.
type Sheet struct {
	RouteView
	Stages       []Stage          `json:"stages"`
	Files        []SourceFile     `json:"files" doc:"what the revision is made of"`
	Acts         []wire.Act       `json:"acts" doc:"what people did to it, newest first; at most 50"`
	WaitingFiles []listen.Waiting `json:"waiting_files" doc:"at most 200 of them"`
}

// Stage is one stage of a route in a sentence.
type Stage struct {
	Name     string   `json:"name" enum:"listen,read,check,shape,map,deliver,reject"`
	Sentence string   `json:"sentence"`
	Details  []string `json:"details"`
	Count    int64    `json:"count"`
	Unit     string   `json:"unit"`
}

// SourceFile is a file of a revision.
type SourceFile struct {
	Name    string `json:"name"`
	Content string `json:"content"`
}

// Midnight is the beginning of today.
func Midnight() time.Time {
	y, m, d := time.Now().Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.Local)
}

// Routes lists the published routes.
func (s *Service) Routes(ctx context.Context) ([]RouteView, error) {
	routes, err := s.store.Routes(ctx)
	if err != nil {
		return nil, err
	}
	tallies, err := s.store.Tallies(ctx, Midnight())
	if err != nil {
		return nil, err
	}
	out := make([]RouteView, 0, len(routes))
	for _, r := range routes {
		out = append(out, s.view(ctx, r, tallies[r.Name]))
	}
	return out, nil
}

func (s *Service) view(ctx context.Context, r store.Route, today store.Tally) RouteView {
	today.Route = r.Name
	n := s.newsOf(ctx, r.Name)
	v := RouteView{Name: r.Name, State: "stopped", Revision: r.Revision, Number: r.Number, PublishedAt: r.PublishedAt, Today: wire.Tally(today), Current: n.Current, Waiting: n.Count, Leader: r.Leader, InEffect: r.Applied || !r.Running && r.Leader == 0}
	if c, err := s.engine.Compiled(ctx, r.Name, r.Revision); err == nil {
		v.Notes = strings.TrimSpace(c.Notes)
	} else {
		n.Problem = err.Error()
	}
	switch {
	case r.Running && n.Problem != "":
		v.State, v.Problem = "failing", n.Problem
	case r.Running && r.Paused(time.Now()):
		v.State, v.PausedUntil = "paused", r.PausedUntil
	case r.Running:
		v.State = "running"
	}
	return v
}

// Waiting lists the files in a route's inbox that have not been taken, and why.
func (s *Service) Waiting(ctx context.Context, name string) []listen.Waiting {
	return s.newsOf(ctx, name).Waiting
}

// Sheet gives one route with its stages.
func (s *Service) Sheet(ctx context.Context, name string) (*Sheet, error) {
	r, err := s.store.Route(ctx, name)
	if err != nil {
		return nil, err
	}
	tallies, err := s.store.Tallies(ctx, Midnight())
	if err != nil {
		return nil, err
	}
	c, err := s.engine.Compiled(ctx, r.Name, r.Revision)
	if err != nil {
		return nil, err
	}
	sheet := &Sheet{RouteView: s.view(ctx, r, tallies[name]), WaitingFiles: s.Waiting(ctx, name), Files: []SourceFile{}}
	acts, err := s.store.Acts(ctx, name, 0, 50)
	if sheet.Acts = all(acts, actOf); err != nil {
		return nil, err
	}
	sheet.Stages = s.stages(c, store.Tally(sheet.Today))
	if err := s.tellLookups(ctx, c, sheet.Stages); err != nil {
		return nil, err
	}
	for n, b := range c.Files {
		sheet.Files = append(sheet.Files, SourceFile{n, string(b)})
	}
	sort.Slice(sheet.Files, func(i, j int) bool { return sheet.Files[i].Name < sheet.Files[j].Name })
	return sheet, nil
}

func (s *Service) folder(f string) string {
	if path, err := s.resolve(f); err == nil {
		return path
	}
	return f
}

// stages says in sentences what a route does.
func (s *Service) stages(c *route.Compiled, t store.Tally) []Stage {
	stages := s.stagesOf(c, t)
	for i := range stages {
		var notes []string
		for _, key := range map[string][]string{"listen": {"listen", "collect", "order", "duplicates"}, "reject": {"rejected"}, "deliver": {"deliver", "retry", "keep"}}[stages[i].Name] {
			notes = append(notes, c.StageNotes[key])
		}
		notes = append(notes, c.StageNotes[stages[i].Name])
		slices.Sort(notes)
		notes = slices.DeleteFunc(slices.Compact(notes), func(s string) bool { return s == "" })
		stages[i].Details = append(notes, stages[i].Details...)
	}
	return stages
}

// againstSentences say what messages are checked against.
func againstSentences(a workspace.Against) []string {
	name, what := a.Description, "rejects the record"
	switch {
	case a.Warn:
		what = "is a warning"
	case a.Messages:
		what = "rejects the message"
	}
	which := "messages"
	switch a.When {
	case "":
	case workspace.Otherwise:
		which = "other messages"
	default:
		which = fmt.Sprintf("messages with %s", a.When)
	}
	switch name {
	case workspace.Nothing:
		return []string{fmt.Sprintf("Checks %s against no description.", which)}
	case workspace.Standard:
		name = "the standard"
	}
	out := []string{fmt.Sprintf("Checks %s against %s; what differs %s.", which, name, what)}
	for _, e := range a.Except {
		what := []string{}
		if e.Rule != "" {
			what = append(what, e.Rule)
		}
		if e.At != "" {
			what = append(what, "at "+e.At)
		}
		out = append(out, fmt.Sprintf("But %s %s.", strings.Join(what, " "), map[string]string{"reject": "is rejected", "warn": "is a warning", "ignore": "does not count"}[e.As]))
	}
	return out
}

func (s *Service) stagesOf(c *route.Compiled, t store.Tally) []Stage {
	if c.Unread() {
		pass := Stage{Name: "read", Sentence: "Passes files on as they are, unread.", Details: []string{}, Count: t.In, Unit: "files"}
		return []Stage{s.listenStage(c, t), pass, s.deliverStage(c, t), s.rejectStage(c, t)}
	}
	read := Stage{Name: "read", Sentence: readSentence(c.Read), Details: []string{}, Count: t.In, Unit: "records"}
	kinds := map[value.Kind]int{}
	for _, f := range c.Plan.Schema.Record {
		kinds[f.Kind]++
	}
	check := Stage{Name: "check", Sentence: fmt.Sprintf("Checks %d fields against %s.", len(c.Plan.Schema.Record), c.Schema), Details: []string{}, Count: t.Rejected, Unit: "rejected"}
	if c.Schema == "" {
		check.Sentence = fmt.Sprintf("Checks the syntax of records; the route takes %d positions of them.", len(c.Plan.Schema.Record))
	}
	if c.Plan.Document != nil {
		check.Sentence = fmt.Sprintf("Checks records against %s, a JSON Schema; maps have %d fields of it.", c.Schema, len(c.Plan.Schema.Record))
		if c.Check.Formats {
			check.Details = append(check.Details, "Formats such as date and email are checked, too.")
		}
	}
	for _, a := range c.Check.Against {
		check.Details = append(check.Details, againstSentences(a)...)
	}
	if lists := c.Plan.Schema.Shape(); len(lists.Lists) > 0 {
		var names []string
		tables := lists.Tables()
		for _, t := range tables {
			name := t.Name
			if t.Above >= 0 {
				name += " in " + tables[t.Above].Name
			}
			names = append(names, name)
		}
		check.Details = append(check.Details, "Lists of a record: "+strings.Join(names, ", ")+".")
	}
	if len(c.Plan.Schema.Unique) > 0 {
		check.Details = append(check.Details, "Must differ from record to record: "+strings.Join(c.Plan.Schema.Unique, ", ")+".")
	}
	if key := c.Plan.Schema.Key(); len(key) > 0 {
		check.Details = append(check.Details, "Must differ from record to record, taken together: "+strings.Join(key, ", ")+".")
	}
	if c.Tolerate >= 0 {
		check.Details = append(check.Details, fmt.Sprintf("A file with more than %g%% rejected records is rejected whole.", c.Tolerate*100))
	}
	if c.OnlyChecked() {
		return []Stage{s.listenStage(c, t), read, check, s.deliverStage(c, t), s.rejectStage(c, t)}
	}
	stages := []Stage{s.listenStage(c, t), read, check}
	if c.Shape.Any() {
		stages = append(stages, shapeStage(&c.Shape, t))
	}
	return append(stages, mapStage(c, t), s.deliverStage(c, t), s.rejectStage(c, t))
}

// shapeStage says in which order records are worked on.
func shapeStage(s *workspace.Shape, t store.Tally) Stage {
	names := func(of []workspace.Ordered) string {
		var out []string
		for _, o := range of {
			name := o.Field
			if o.Descending {
				name += " descending"
			}
			out = append(out, name)
		}
		return strings.Join(out, ", ")
	}
	stage := Stage{Name: "shape", Details: []string{}, Count: t.In, Unit: "records"}
	say := func(format string, args ...any) {
		if line := fmt.Sprintf(format, args...); stage.Sentence == "" {
			stage.Sentence = line
		} else {
			stage.Details = append(stage.Details, line)
		}
	}
	if s.OnePer != nil {
		say("Of records with the same %s only the %s goes on.", names(s.OnePer), map[bool]string{false: "first", true: "last"}[s.Last])
	}
	switch {
	case s.Gather != nil && s.Sort != nil:
		say("Records with the same %s become one, with the list %s, sorted by %s.", names(s.Gather), s.List, names(s.Sort))
	case s.Gather != nil:
		say("Records with the same %s become one, with the list %s.", names(s.Gather), s.List)
	case s.Sort != nil:
		say("Sorts records by %s.", names(s.Sort))
	}
	return stage
}

// mapStage says what is made of records, in each branch.
func mapStage(c *route.Compiled, t store.Tally) Stage {
	stage := Stage{Name: "map", Details: []string{}, Count: t.Filtered, Unit: "left out"}
	if len(c.Branches) > 1 {
		stage.Sentence = fmt.Sprintf("Sends records into %d branches.", len(c.Branches))
	}
	for i := range c.Branches {
		b, p := &c.Branches[i], &c.Plan.Branches[i]
		makes := formats.Named(p.Makes).Makes
		says := ""
		switch {
		case b.Skip != "":
			says = "left out: " + b.Skip
		case b.Map == "":
			says = fmt.Sprintf("passes %s on as they came", makes)
		case p.Program.AsCame():
			says = fmt.Sprintf("passes %s on as they came, with what %s changes", makes, b.Map)
		default:
			says = fmt.Sprintf("makes %s by %s", makes, b.Map)
		}
		if b.Name == "" {
			stage.Sentence = upper(says) + "."
			break
		}
		when := "all records"
		switch {
		case p.Otherwise:
			when = "what no other branch takes"
		case b.When != "":
			when = "when " + b.When
		}
		line := fmt.Sprintf("%s, %s: %s.", b.Name, when, says)
		if notes := strings.TrimSpace(b.Notes); notes != "" {
			line += " " + notes
		}
		if stage.Details = append(stage.Details, line); stage.Sentence == "" {
			stage.Sentence = "Sends records into one branch."
		}
	}
	return stage
}

// upper is a text with a capital letter.
func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// readSentence says how files are read.
func readSentence(r workspace.Read) string {
	set := string(r.Charset)
	if r.Charset == text.Declared {
		set = ""
	}
	return packing(r) + "Reads " + r.Source.Says(set) + "."
}

// packing says how a route's files are compressed.
func packing(r workspace.Read) string {
	switch r.Packing {
	case text.Gzip:
		return "Undoes gzip. "
	case text.Zip:
		return "Takes " + cmp.Or(r.Member, "the only member") + " out of zip archives. "
	}
	return ""
}

func (s *Service) listenStage(c *route.Compiled, t store.Tally) Stage {
	l := c.Listen
	names := fmt.Sprintf("files named %s", l.Names)
	if l.Expression != nil {
		names = fmt.Sprintf("files whose name matches %s", l.Expression)
	}
	stage := Stage{Name: "listen", Sentence: fmt.Sprintf("Picks up %s from %s", names, s.folder(l.Folder)), Details: []string{}, Count: t.Pickups, Unit: "pickups"}
	if l.Subfolders {
		stage.Sentence += " and its subfolders"
	}
	stage.Sentence += "."
	say := func(when bool, format string, args ...any) {
		if when {
			stage.Details = append(stage.Details, fmt.Sprintf(format, args...))
		}
	}
	rhythm := timetable.Short(l.Rhythm)
	place, _, distant := workspace.Distant(s.folder(l.Folder))
	received := distant && s.Environment.Places[place].Receives
	mails, got := distant && s.Environment.Places[place].Kind == "imap", distant && !received && s.Environment.Places[place].Kind == "http"
	if mails {
		stage.Sentence = fmt.Sprintf("Takes %s from %s.", mailed(&l, names), s.folder(l.Folder))
	} else if got {
		stage.Sentence = fmt.Sprintf("Gets what %s answers, if it is %s.", s.folder(l.Folder), names)
	}
	say(!distant && l.Notice == workspace.ByEvents, "Kernel events, and a look every %s.", rhythm)
	say(!distant && l.Notice == workspace.ByLooks, "A look every %s.", rhythm)
	say(distant && !received && l.Notice != workspace.OnDemand, "The server is looked at every %s.", rhythm)
	say(distant && !received && !mails && !got && l.Marker == "", "A file must have looked the same for %s.", timetable.Short(cmp.Or(l.Quiet, fetch.Settle)))
	say(received, "Others send to it, and are answered when what came is %s.", map[bool]string{true: "committed", false: "stored"}[l.AnswerCommitted])
	say(received && l.AnswerOutput, "The answer is the first output that was made of it.")
	say(mails && l.Originals == workspace.Left, "Mails of which something was taken are marked as read.")
	say(distant && l.TakenTo != "", "What was taken is moved to %s there.", l.TakenTo)
	say(l.Notice == workspace.OnDemand, "Files are taken when somebody asks.")
	if l.Timetable != nil {
		say(true, "Timetable: %s.", l.Timetable)
	}
	say(!distant && l.Quiet > 0, "A file must have been left alone for %s.", timetable.Short(l.Quiet))
	say(l.Marker != "", "A file is complete when %s is beside it.", l.Marker)
	if l.EndsWith != nil {
		say(true, "A file is complete when its last line matches %s.", l.EndsWith)
	}
	say(!l.Since.IsZero(), "Files changed before %s are left where they are.", l.Since.Format(time.RFC3339))
	say(l.Originals == workspace.Left && !mails, "Originals stay where they are; a changed content is a new pickup: %v.", yes(l.Changes))
	say(l.Gone, "A file that disappears is a pickup too.")
	say(l.Originals == workspace.Removed, "Originals are not kept once they are delivered.")
	for _, sentence := range collects(&c.Collect) {
		say(true, "%s", sentence)
	}
	by := c.Order.By
	if c.By != nil {
		by = "content: " + by
	}
	switch {
	case c.Order.Lane == "none":
		say(by != "arrival", "In the order of %s.", by)
	case c.Order.Lane == "all":
		say(true, "All files stay in order, by %s%s.", by, holds(c))
	default:
		say(true, "Files with the same %s stay in order, by %s%s.", c.Order.Lane, by, holds(c))
	}
	say(c.Duplicates.Content != workspace.Warn, "The same content again: %s.", c.Duplicates.Content)
	say(c.Duplicates.Key != "", "The same %s again: %s.", c.Duplicates.Key, c.Duplicates.SameKey)
	for i := range c.Expect {
		say(true, "Expected: %s.", c.Expect[i].String())
	}
	return stage
}

// mailed says what is taken of which mails.
func mailed(l *workspace.Listen, names string) string {
	out := map[string]string{"attachments": names + " that are attached to mails", "text": "the texts of mails", "whole": "mails"}[l.Mails.Take]
	if l.Mails.From != "" {
		out += " from " + l.Mails.From
	}
	if l.Mails.Subject != "" {
		out += ", with a subject like " + l.Mails.Subject + ","
	}
	return out
}

// collects says which files go on together.
func collects(c *workspace.Collect) (out []string) {
	if !c.Any() {
		return nil
	}
	which := "All files that are there"
	if c.By != "" {
		which = "Files with the same " + c.By
	}
	switch {
	case c.Count > 0:
		out = append(out, fmt.Sprintf("%s go on together when %d have come.", which, c.Count))
	case c.Marker != "":
		out = append(out, fmt.Sprintf("%s go on together when a marker %s has come.", which, c.Marker))
	case c.Names != nil:
		out = append(out, fmt.Sprintf("%s go on together when there is one of each: %s.", which, strings.Join(c.Names, ", ")))
	default:
		out = append(out, which+" go on together when files are taken.")
	}
	if c.Newest {
		out = append(out, "Only the newest is read; older ones are set aside.")
	}
	if c.Counts() && c.Within != workspace.Forever {
		then := map[workspace.WhenIncomplete]string{workspace.HoldIncomplete: "they wait on, and an alert says so", workspace.RejectIncomplete: "each is rejected", workspace.GoOn: "they go on without"}[c.Else]
		out = append(out, fmt.Sprintf("If others are missing after %s, %s.", timetable.Short(c.Within), then))
	}
	return out
}

func yes(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }

func holds(c *route.Compiled) string {
	if c.Order.Holds {
		return "; one that cannot go on holds those behind it"
	}
	return "; one that cannot go on lets the others pass"
}

// outputs says what a branch makes outputs of.
func outputs(c *route.Compiled, b *workspace.Branch) string {
	switch {
	case c.Unread():
		return "each file"
	case c.OnlyChecked():
		return "each file as it came"
	case b.PerRecord:
		return "one file for each record"
	case b.By != "":
		return "one file for each " + b.By
	case b.Records > 0:
		return fmt.Sprintf("one file for each %d records", b.Records)
	case b.Bytes > 0:
		return fmt.Sprintf("one file for each %d bytes", b.Bytes)
	}
	if c.Collect.Any() {
		return "one file for all that go on together"
	}
	return "one file for each pickup"
}

// destination says how files come to a destination. If there are several, it says which this is.
func (s *Service) destination(d workspace.Destination, several bool) string {
	say := map[workspace.WhenTaken]string{workspace.Count: "a name that is taken gets a number", workspace.Replace: "a file of the same name is replaced", workspace.ReplaceKeep: "a file of the same name is replaced and kept beside it", workspace.HoldTaken: "a name that is taken holds the delivery"}[d.Taken]
	if d.Lookup != "" {
		return upper(fmt.Sprintf("the newest content of the lookup %s.", d.Lookup))
	}
	if place, _, distant := workspace.Distant(s.folder(d.Folder)); distant {
		switch p := s.Environment.Places[place]; {
		case p.Kind == "http":
			say = "each output is posted, and the answer kept"
		case p.Kind == "mllp":
			say = "each message is sent, and its acknowledgement kept"
		case p.Kind == "smtp" && d.Bare:
			say = "each is mailed as a text"
		case p.Kind == "smtp":
			say = "each output is mailed"
		}
	}
	for _, said := range d.Says {
		if said.What == "to" || said.What == "subject" || strings.HasPrefix(said.What, "header ") {
			say += fmt.Sprintf("; %s %s", said.What, said.Text)
		}
	}
	where := ""
	if several {
		where = s.folder(d.Folder) + ": "
	}
	switch d.When {
	case "":
	case workspace.Otherwise:
		where += "what no other takes; "
	default:
		where += "when " + d.When + "; "
	}
	if d.Name != "" {
		where += "named " + d.Name + "; "
	}
	line := where + say
	if d.Mode != 0 {
		line += fmt.Sprintf("; permissions %#o", d.Mode)
	}
	if d.Owner != "" {
		line += "; owner " + d.Owner
	}
	return upper(line) + "."
}

// delivers says where a branch with one destination delivers.
func delivers(what, folder string, b *workspace.Branch) string {
	if name := b.To[0].Lookup; name != "" {
		return fmt.Sprintf("Delivers %s as the newest content of the lookup %s.", what, name)
	}
	return fmt.Sprintf("Delivers %s to %s, named %s.", what, folder, b.FileName)
}

func (s *Service) deliverStage(c *route.Compiled, t store.Tally) Stage {
	stage := Stage{Name: "deliver", Details: []string{}, Count: t.Good, Unit: "good"}
	all := c.Destinations()
	for i := range c.Branches {
		b := &c.Branches[i]
		if b.Skip != "" {
			continue
		}
		what := outputs(c, b)
		if len(c.Branches) > 1 || b.Name != "" {
			stage.Details = append(stage.Details, fmt.Sprintf("%s: %s, named %s.", b.Name, what, b.FileName))
		} else if stage.Sentence = delivers(what, s.folder(b.To[0].Folder), b); len(b.To) > 1 {
			stage.Sentence = fmt.Sprintf("Delivers %s to each of %d destinations, named %s.", what, len(b.To), b.FileName)
		}
		by := cmp.Or(b.Described, "its standard")
		switch b.Differs {
		case "reject":
			stage.Details = append(stage.Details, fmt.Sprintf("What is made of a record is validated against %s; if it differs, the record is rejected.", by))
		case "warn":
			stage.Details = append(stage.Details, fmt.Sprintf("What is made of a record is validated against %s; differences are told as warnings.", by))
		}
		for _, d := range b.To {
			stage.Details = append(stage.Details, s.destination(d, len(all) > 1))
		}
	}
	if stage.Sentence == "" {
		stage.Sentence = fmt.Sprintf("Delivers what the branches make to %d destinations.", len(all))
	}
	if c.Retry.For != workspace.Forever {
		stage.Details = append(stage.Details, fmt.Sprintf("What fails is tried again for %s, then it waits for a person.", timetable.Short(c.Retry.For)))
	}
	return stage
}

func (s *Service) rejectStage(c *route.Compiled, t store.Tally) Stage {
	stage := Stage{Name: "reject", Sentence: fmt.Sprintf("Puts rejected records and files into %s, with the reasons beside them.", s.folder(c.Rejected.Folder)), Details: []string{}, Count: t.Whole, Unit: "whole files"}
	for what, keep := range map[string]time.Duration{"Originals": c.Keep.Originals, "Rejected records": c.Keep.Rejects, "What is recorded about pickups": c.Keep.Records} {
		if keep != workspace.Forever {
			verb := "are"
			if strings.HasPrefix(what, "What") {
				verb = "is"
			}
			stage.Details = append(stage.Details, fmt.Sprintf("%s %s kept for %s.", what, verb, days(keep)))
		}
	}
	sort.Strings(stage.Details)
	return stage
}

func days(d time.Duration) string {
	if d%(24*time.Hour) == 0 {
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	}
	return timetable.Short(d)
}

// Overview is what came in today and what is going on.
type Overview struct {
	Since  time.Time       `json:"since"`
	Alerts []wire.Alert    `json:"alerts" doc:"that nobody has seen yet, newest first"`
	Lanes  []wire.Lane     `json:"lanes" doc:"that are held"`
	Nodes  []NodeView      `json:"nodes"`
	Due    []wire.Expected `json:"expected" doc:"deadlines of today and to come"`
	Routes []RouteView     `json:"routes"`
	Total  wire.Tally      `json:"total"`
	Latest []wire.Pickup   `json:"latest"`
}

// Overview sums up today.
func (s *Service) Overview(ctx context.Context) (*Overview, error) {
	o := &Overview{Since: Midnight()}
	var err error
	if o.Routes, err = s.Routes(ctx); err != nil {
		return nil, err
	}
	for _, r := range o.Routes {
		t := r.Today
		o.Total.Pickups += t.Pickups
		o.Total.In += t.In
		o.Total.Good += t.Good
		o.Total.Rejected += t.Rejected
		o.Total.Filtered += t.Filtered
		o.Total.Merged += t.Merged
		o.Total.Whole += t.Whole
		o.Total.Held += t.Held
		o.Total.Uncertain += t.Uncertain
		o.Total.Open += t.Open
	}
	latest, err := s.store.Pickups(ctx, store.Filter{Limit: 12})
	if o.Latest = all(latest, pickupOf); err != nil {
		return nil, err
	}
	if o.Alerts, err = s.Alerts(ctx, store.AlertFilter{Open: true, Limit: 20}); err != nil {
		return nil, err
	}
	lanes, err := s.store.HeldLanes(ctx, "")
	if o.Lanes = all(lanes, laneOf); err != nil {
		return nil, err
	}
	if o.Due, err = s.Expectations(ctx, "", Midnight()); err != nil {
		return nil, err
	}
	o.Nodes, err = s.Nodes(ctx)
	return o, err
}

// Pickups lists pickups, newest first.
func (s *Service) Pickups(ctx context.Context, f store.Filter) ([]wire.Pickup, error) {
	rows, err := s.store.Pickups(ctx, f)
	return all(rows, pickupOf), err
}

// PickupDetail is a pickup with all its runs.
type PickupDetail struct {
	wire.Pickup
	Runs []wire.Run `json:"runs" doc:"newest first"`
	Acts []wire.Act `json:"acts" doc:"what people decided about it, newest first"`
}

// Pickup gives one pickup.
func (s *Service) Pickup(ctx context.Context, id int64) (*PickupDetail, error) {
	p, err := s.store.Pickup(ctx, id)
	if err != nil {
		return nil, err
	}
	runs, err := s.store.Runs(ctx, id)
	if err != nil {
		return nil, err
	}
	acts, err := s.store.Acts(ctx, "", id, 50)
	return &PickupDetail{pickupOf(p), all(runs, runOf), all(acts, actOf)}, err
}

// Rejects lists the rejected records of a run after a record.
func (s *Service) Rejects(ctx context.Context, runID, after int64, limit int) ([]wire.Reject, error) {
	if _, err := s.store.Run(ctx, runID); err != nil {
		return nil, err
	}
	rows, err := s.store.Rejects(ctx, runID, after, limit)
	return all(rows, rejectOf), err
}
