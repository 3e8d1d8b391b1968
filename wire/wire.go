// Package wire is what goes over the HTTP interface of pickups, runs and what is about them: plain values,
// as clients in other languages see them. Rows of the database are another thing (store).
package wire

import (
	"time"

	"ydrion/core/finding"
	"ydrion/core/mail"
)

// Pickup is one file, taken once, with its latest run.
type Pickup struct {
	ID        int64      `json:"id"`
	Route     string     `json:"route"`
	Name      string     `json:"name"`
	Folder    string     `json:"folder"`
	Path      string     `json:"path"`
	Size      int64      `json:"size" doc:"bytes"`
	Modified  time.Time  `json:"modified"`
	SHA256    string     `json:"sha256"`
	State     string     `json:"state" enum:"claimed,taken,committed,delivered,rejected,set aside,held,uncertain,withdrawn" doc:"set aside: it was collected with others and is not read; its reason says why"`
	Reason    string     `json:"reason"`
	Event     string     `json:"event" enum:"arrived,changed,gone" doc:"what happened to the file"`
	Origin    string     `json:"origin" enum:"inbox,left,handed" doc:"taken out of the inbox, left in it, or handed over by somebody"`
	Lane      string     `json:"lane" doc:"what it stays in order with"`
	Key       string     `json:"business_key"`
	Tries     int        `json:"tries" doc:"how often it could not go on"`
	NextTry   *time.Time `json:"next_try,omitempty" doc:"of a held one; without it, it waits for a person"`
	Passed    bool       `json:"passed" doc:"those behind it in its lane may pass"`
	Archived  bool       `json:"archived" doc:"its original is kept"`
	NoticedAt time.Time  `json:"noticed_at"`
	ClaimedAt time.Time  `json:"claimed_at"`
	TakenAt   *time.Time `json:"taken_at,omitempty"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Run       int64      `json:"run" doc:"the latest run, 0 if none"`
	Mail      *mail.Head `json:"mail,omitempty" doc:"that it was attached to"`
	In        int64      `json:"records_in"`
	Good      int64      `json:"good"`
	Rejected  int64      `json:"rejected"`
	Filtered  int64      `json:"filtered"`
	Merged    int64      `json:"merged" doc:"rows that went into a record with others, which counts once"`
	Warnings  int64      `json:"warnings" doc:"about it, and about its records that are not left out"`
	Whole     bool       `json:"rejected_whole" doc:"the file was rejected as one piece"`
	Files     int        `json:"files" doc:"how many files its run is of"`
}

// Run is one execution of a route over a pickup.
type Run struct {
	ID          int64        `json:"id"`
	Pickup      int64        `json:"pickup"`
	Route       string       `json:"route"`
	Revision    string       `json:"revision"`
	Number      int          `json:"revision_number"`
	State       string       `json:"state" enum:"working,committed,published,failed"`
	SameAs      *int64       `json:"same_as,omitempty" doc:"the run whose time and sequence numbers it repeats"`
	Again       bool         `json:"again" doc:"somebody asked for it; otherwise it came with the file"`
	Now         time.Time    `json:"now" doc:"the time that the map sees"`
	StartedAt   time.Time    `json:"started_at"`
	CommittedAt *time.Time   `json:"committed_at,omitempty"`
	EndedAt     *time.Time   `json:"ended_at,omitempty"`
	In          int64        `json:"records_in"`
	Good        int64        `json:"good"`
	Rejected    int64        `json:"rejected"`
	Filtered    int64        `json:"filtered"`
	Merged      int64        `json:"merged" doc:"rows that went into a record with others, which counts once"`
	Warnings    int64        `json:"warnings" doc:"about its files, and about their records that are not left out"`
	Bytes       int64        `json:"bytes"`
	Whole       bool         `json:"rejected_whole"`
	Findings    finding.List `json:"findings" doc:"about the file as a whole"`
	Deliveries  []Delivery   `json:"deliveries" doc:"at most 200 good ones, and all others"`
	Outputs     int64        `json:"outputs" doc:"how many deliveries there are"`
	Overtaken   int64        `json:"overtaken" doc:"how many of them did not come out, as those of later files have their places"`
	Key         string       `json:"key,omitempty" doc:"what the files have in common that it is of, where they were collected"`
	Files       []RunFile    `json:"files" doc:"that it is of, in their order"`

	Branches []BranchCount `json:"branches" doc:"of how many records each has made something, where the route has several"`
}

// BranchCount is of how many records a branch of a route has made something.
type BranchCount struct {
	Name    string `json:"name"`
	Records int64  `json:"records"`
}

// RunFile is a file of a run, and what became of it.
type RunFile struct {
	Pickup   int64  `json:"pickup"`
	Name     string `json:"name"`
	Size     int64  `json:"size" doc:"bytes"`
	State    string `json:"state" doc:"of the pickup"`
	Part     string `json:"part" enum:"read,table,marker,older" doc:"table: the others look codes up in it; marker: its coming completed the others; older: a newer one was taken instead; these are not read"`
	In       int64  `json:"records_in"`
	Good     int64  `json:"good"`
	Rejected int64  `json:"rejected"`
	Filtered int64  `json:"filtered"`
	Merged   int64  `json:"merged" doc:"rows that went into a record with others, which counts once"`
	Warnings int64  `json:"warnings" doc:"about it, and about its records that are not left out"`
	Whole    bool   `json:"rejected_whole"`
}

// Lookup is a content of a lookup that a route has delivered.
type Lookup struct {
	Name    string    `json:"name"`
	Version int       `json:"version" doc:"from 1"`
	At      time.Time `json:"at" doc:"when it came"`
	SHA256  string    `json:"sha256"`
	Rows    int64     `json:"rows"`
	Size    int64     `json:"size" doc:"bytes"`
	Route   string    `json:"route" doc:"that delivered it"`
	Run     int64     `json:"run"`
	Pickup  int64     `json:"pickup" doc:"that it came with; 0 if nothing is known of it any more"`
}

// Tally is what a route has done since a time.
type Tally struct {
	Route     string     `json:"route"`
	Pickups   int64      `json:"pickups"`
	In        int64      `json:"records_in"`
	Good      int64      `json:"good"`
	Rejected  int64      `json:"rejected"`
	Filtered  int64      `json:"filtered"`
	Merged    int64      `json:"merged" doc:"rows that went into a record with others, which counts once"`
	Whole     int64      `json:"rejected_whole" doc:"files rejected as a whole"`
	Held      int64      `json:"held" doc:"pickups that cannot go on: tried again, or waiting for a person"`
	Uncertain int64      `json:"uncertain" doc:"pickups of which nobody can tell whether they have arrived"`
	Open      int64      `json:"open" doc:"pickups that are being worked on"`
	Last      *time.Time `json:"last,omitempty" doc:"when the latest pickup was claimed"`
}

// Lane is a lane of a route in which something waits for a person or to be tried
// again.
type Lane struct {
	Route   string     `json:"route"`
	Lane    string     `json:"lane"`
	Pickup  int64      `json:"pickup" doc:"the pickup that holds it"`
	Name    string     `json:"name"`
	State   string     `json:"state" enum:"held,uncertain"`
	Reason  string     `json:"reason"`
	NextTry *time.Time `json:"next_try,omitempty"`
	Behind  int64      `json:"behind" doc:"what waits behind it: pickups that have been taken, and files in the inbox"`
}

// Act is something that a person did to a route or a pickup.
type Act struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Route   string    `json:"route"`
	Pickup  *int64    `json:"pickup,omitempty"`
	What    string    `json:"what" doc:"such as started, stopped, paused, published, removed, or a decision"`
	By      string    `json:"by" doc:"empty if nobody said so"`
	Because string    `json:"because"`
}

// Removal is what removing a route means.
type Removal struct {
	Route   string `json:"route"`
	Running bool   `json:"running" doc:"it must be stopped first"`
	Open    int64  `json:"open" doc:"pickups that have not ended: they must first"`
	Pickups int64  `json:"pickups" doc:"of which is known what became of them; that stays"`
	Waiting int    `json:"waiting" doc:"files that were fetched or received for it and wait to be taken: it must take them first, or they are handed over"`
	Removed bool   `json:"removed"`
}

// Renaming is what renaming a route means.
type Renaming struct {
	Route   string `json:"route"`
	To      string `json:"to"`
	Running bool   `json:"running" doc:"it must be stopped first"`
	Open    int64  `json:"open" doc:"pickups that have not ended: they must first"`
	Pickups int64  `json:"pickups" doc:"that go with it"`
	Renamed bool   `json:"renamed"`
}

// Alert is something that a person should know.
type Alert struct {
	ID      int64      `json:"id"`
	At      time.Time  `json:"at"`
	Kind    string     `json:"kind" enum:"rejected,held,stuck,uncertain,duplicate,missing,late,surplus,small,disk low,lane held,incomplete,standstill,no leader,defect,database away"`
	Route   string     `json:"route"`
	Pickup  int64      `json:"pickup" doc:"0 if it is about none"`
	About   string     `json:"about" doc:"what it is about; while one is open, the same is not told again"`
	Message string     `json:"message"`
	SeenAt  *time.Time `json:"seen_at,omitempty" doc:"when somebody said that it has been seen"`
	SeenBy  string     `json:"seen_by"`
	EndedAt *time.Time `json:"ended_at,omitempty" doc:"when the reason went away"`
}

// Expected is what became of an expectation at one of its deadlines.
type Expected struct {
	Route  string    `json:"route"`
	Name   string    `json:"name"`
	DueAt  time.Time `json:"due_at"`
	State  string    `json:"state" enum:"met,missing,late,mismatch,waiting" doc:"waiting: the deadline is still to come; mismatch: files came, but too small or too many"`
	Seen   int       `json:"seen" doc:"files that came in time"`
	Wanted string    `json:"wanted" doc:"the expectation in words"`
}

// Purged is what was purged, or would be.
type Purged struct {
	Route     string `json:"route"`
	Originals int64  `json:"originals" doc:"files in the archive"`
	Bytes     int64  `json:"bytes" doc:"of these files"`
	Rejects   int64  `json:"rejects" doc:"rejected records with their content"`
	Pickups   int64  `json:"pickups" doc:"pickups with their runs and deliveries"`
	Held      int64  `json:"under_legal_hold" doc:"pickups that would have been purged but for a legal hold"`
}

// LegalHold keeps things from being purged.
type LegalHold struct {
	ID       int64      `json:"id"`
	Route    string     `json:"route" doc:"empty: whatever the route"`
	Pickup   int64      `json:"pickup" doc:"0: all of the route"`
	Because  string     `json:"because"`
	PlacedAt time.Time  `json:"placed_at"`
	LiftedAt *time.Time `json:"lifted_at,omitempty"`
}

// Delivery is one output of a run on its way to one destination.
type Delivery struct {
	Run         int64             `json:"run"`
	Ord         int               `json:"number"`
	Kind        string            `json:"kind" enum:"good,rejected,findings,report"`
	Output      int               `json:"destination" doc:"which of the route's destinations, from 0"`
	Folder      string            `json:"folder"`
	Name        string            `json:"name"`
	Size        int64             `json:"size" doc:"bytes"`
	SHA256      string            `json:"sha256"`
	Records     int64             `json:"records"`
	FirstRecord int64             `json:"first_record"`
	State       string            `json:"state" enum:"open,published,uncertain,abandoned,overtaken"`
	Reason      string            `json:"reason"`
	PublishedAt *time.Time        `json:"published_at,omitempty"`
	Tries       int               `json:"tries" doc:"of one that goes to a server: how often bringing it there has failed"`
	NextTry     *time.Time        `json:"next_try,omitempty" doc:"when it is tried again"`
	Receipt     string            `json:"receipt" doc:"what its server says, or shows, of it"`
	Said        map[string]string `json:"said,omitempty" doc:"what goes with it where it is sent: addresses, subject, headers"`
}

// EnvironmentPlace is where files come from and go to.
type EnvironmentPlace struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind" enum:"folder,sftp,ftp,webdav,s3,imap,http,smtp,mllp"`
	Where    string     `json:"where" doc:"a folder of this machine, or the address of a server"`
	State    string     `json:"state" enum:"works,away,not tried" doc:"as far as the node knows that answers"`
	Problem  string     `json:"problem" doc:"why it is away"`
	Since    *time.Time `json:"since,omitempty" doc:"since when it is away"`
	Reached  *time.Time `json:"reached,omitempty" doc:"when it last answered"`
	Waiting  int64      `json:"waiting" doc:"outputs that are to be brought there"`
	Tried    int64      `json:"tried" doc:"of those: could not be brought there yet"`
	Person   int64      `json:"person" doc:"of those: wait for a person"`
	Fetching int64      `json:"fetching" doc:"files that are being fetched from there"`
	Uses     []PlaceUse `json:"uses"`
}

// PlaceUse is what a route does with a place.
type PlaceUse struct {
	Route  string `json:"route"`
	What   string `json:"what" enum:"takes files from,delivers to,rejects to"`
	Folder string `json:"folder"`
}

// PlaceStep is one thing that was tried with a place.
type PlaceStep struct {
	What    string  `json:"what"`
	Says    string  `json:"says" doc:"what was found, or why it did not work"`
	OK      bool    `json:"ok"`
	Seconds float64 `json:"seconds"`
}

// Reject is a record that did not pass.
type Reject struct {
	Record   int64        `json:"record"`
	Line     int64        `json:"line"`
	Findings finding.List `json:"findings"`
	Raw      string       `json:"raw" doc:"the record as it stands in the file, decoded and at most 64 KiB of it"`
	File     int          `json:"file" doc:"which of the files of the run it is in, from 1"`
}

// NodeView is a node as people see it.
type NodeView struct {
	ID      int64      `json:"id"`
	Name    string     `json:"name" doc:"machine and process"`
	Address string     `json:"address" doc:"of its HTTP interface"`
	BeganAt time.Time  `json:"began_at"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
	Routes  int        `json:"routes" doc:"how many routes it leads"`
}
