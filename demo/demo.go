// Package demo has the invented data of Skerry Coast Seal Rescue: a workspace,
// the files that its field stations send, and what is expected to become of
// them.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"strings"
	"time"
)

//go:embed workspace files
var content embed.FS

// Workspace is the demo's workspace.
func Workspace() fs.FS { return sub("workspace") }

// Files are the files that are dropped.
func Files() fs.FS { return sub("files") }

func sub(name string) fs.FS {
	s, err := fs.Sub(content, name)
	if err != nil {
		panic(err) // the folders are named above
	}
	return s
}

// Way is how a file comes into an inbox.
type Way string

const (
	Renamed Way = "renamed in"     // written elsewhere, then moved
	Written Way = "written"        // in place, at once
	Slowly  Way = "written slowly" // in place, piece by piece
)

// Drop is a file that a station sends, and what is expected to become of it.
type Drop struct {
	File     string
	Inbox    string // below the data folder
	Way      Way
	State    string
	In       int64
	Good     int64
	Rejected int64
	Filtered int64
	Merged   int64
}

// Mailed is a sheet that comes attached to a mail.
var Mailed = Drop{"calder-ness-2026-11-25.csv", "", "mailed", "delivered", 5, 3, 2, 0, 0}

// Drops are the shipped files in the order in which they are sent.
var Drops = []Drop{
	{"ansel-point-2026-11-23.csv", "stations/inbox", Renamed, "delivered", 6, 6, 0, 0, 0},
	{"brunholm-2026-11-23.csv", "stations/inbox", Written, "delivered", 15, 9, 6, 0, 0},
	{"calder-ness-2026-11-23.csv", "stations/inbox", Renamed, "delivered", 5, 3, 2, 0, 0},
	{"dunmarra-2026-11-24.csv", "stations/inbox", Slowly, "delivered", 40, 40, 0, 0, 0},
	{"ansel-point-2026-11-24.csv", "stations/inbox", Renamed, "delivered", 2, 1, 1, 0, 0},
	{"brunholm-2026-11-24.csv", "stations/inbox", Renamed, "rejected", 0, 0, 0, 0, 0},
	{"calder-ness-2026-11-24.csv", "stations/inbox", Written, "rejected", 0, 0, 0, 0, 0},
	{"weights-2026-11-24.csv", "stations/weights/pool-1", Renamed, "delivered", 5, 3, 1, 1, 0},
	{"weights-2026-11-25.csv", "stations/weights/pool-2", Written, "delivered", 2, 2, 0, 0, 0},
	{"feed-requests-2026-11-24.csv", "stations/feed", Renamed, "delivered", 7, 4, 3, 0, 0},
	{"reagents-2026-11-25.x12", "suppliers/holm/out", Written, "delivered", 5, 3, 2, 0, 0},
	{"reagents-2026-11-26.csv", "laboratory/purchases", Renamed, "delivered", 6, 2, 1, 0, 3},
	{"tidewrack-2026-11-25.edi", "suppliers/tidewrack/out", Written, "delivered", 2, 2, 0, 0, 0},
	{"temperatures-2026-11-24.csv", "stations/temperatures", Renamed, "delivered", 9, 6, 1, 2, 0},
	{"flipper.png", "stations/pictures", Slowly, "delivered", 1, 1, 0, 0, 0},
	{"animals-2026-11-24.csv", "stations/animals", Renamed, "delivered", 3, 3, 0, 0, 0},
	{"weighings-2026-11-24.csv", "stations/weighings", Renamed, "delivered", 3, 2, 1, 0, 0},
}

// Set is files that are sent together. If somebody has to ask, their route is asked to take them.
type Set struct {
	Route string
	Ask   bool
	Drops []Drop
}

// Sets are sent after the others.
var Sets = []Set{
	{"night-logs", true, []Drop{
		{"night-pool-1.csv", "stations/night-logs", Renamed, "delivered", 3, 3, 0, 0, 0},
		{"night-pool-2.csv", "stations/night-logs", Written, "delivered", 3, 2, 1, 0, 0},
		{"night-pool-3.csv", "stations/night-logs", Renamed, "delivered", 2, 2, 0, 0, 0},
	}},
	{"letters", false, []Drop{
		{"SC-0815.pdf", "stations/post/letters", Slowly, "delivered", 1, 1, 0, 0, 0},
		{"SC-0815.txt", "stations/post/covers", Renamed, "delivered", 1, 1, 0, 0, 0},
	}},
}

var (
	stations = []struct{ name, code string }{{"Ansel Point", "AP"}, {"Brunholm", "BR"}, {"Calder Ness", "CN"}, {"Dunmarra", "DU"}}
	notes    = []string{"", "calm in transit", "coughing at night", "net & rope marks", `"bite, left flank"`, "moult in progress", ""}
	tests    = []string{"WBC", "HGB", "PCV", "LUNG", "MORB"}
)

// Day makes the three sheets up that Dunmarra sends on a day: the second one
// begins with the specimen of the first.
func Day(now time.Time) (names, texts []string) {
	number := now.Unix() % 100_000_000
	for i, part := range []string{"1-morning", "2-noon", "3-evening"} {
		var b strings.Builder
		b.WriteString("specimen_id,animal_tag,species,station,collected_at,sex,weight_kg,note,test_code,priority\n")
		for row := range 3 {
			specimen := fmt.Sprintf("DU-%08d%d%d", number, i, row)
			if i == 1 && row == 0 {
				specimen = fmt.Sprintf("DU-%08d00", number)
			}
			fmt.Fprintf(&b, "%s,D-%d%d,GS,Dunmarra,%s,Female,%d.5,,WBC,%s\n", specimen, i, row, now.Add(-time.Duration(8-3*i)*time.Hour).Format("02/01/2006 15:04"), 20+row, []string{"routine", "urgent", "routine"}[row])
		}
		names, texts = append(names, fmt.Sprintf("%s-%s.csv", now.Format("2006-01-02-150405"), part)), append(texts, b.String())
	}
	return names, texts
}

// Sheet makes a specimen sheet up: its name and content. About one row in
// twenty is wrong.
func Sheet(number int, r *rand.Rand, now time.Time) (name, text string) {
	s := stations[number%len(stations)]
	var b strings.Builder
	b.WriteString("specimen_id,animal_tag,species,station,collected_at,sex,weight_kg,note,test_code,priority\n")
	for i := range 4 + r.IntN(12) {
		weight := fmt.Sprintf("%.2f", 12+r.Float64()*60)
		if r.IntN(20) == 0 {
			weight = strings.Replace(weight, ".", ",", 1)
			weight = `"` + weight + `"`
		}
		fmt.Fprintf(&b, "%s-%04d%02d,T-%04d,%s,%s,%s,%s,%s,%s,%s,%s\n", s.code, number%10000, i, r.IntN(10000), []string{"GS", "HS"}[r.IntN(2)], s.name,
			now.Add(-time.Duration(r.IntN(600))*time.Minute).Format("02/01/2006 15:04"), []string{"Male", "Female", "Unknown", ""}[r.IntN(4)], weight,
			notes[r.IntN(len(notes))], tests[r.IntN(len(tests))], []string{"routine", "routine", "urgent", ""}[r.IntN(4)])
	}
	return fmt.Sprintf("%s-%s.csv", strings.ReplaceAll(strings.ToLower(s.name), " ", "-"), now.Format("2006-01-02-150405")), b.String()
}
