package fetch

import (
	"strings"
	"testing"
	"time"

	"ydrion/listen"
	"ydrion/remote"
	"ydrion/workspace"
)

// TestWhatCannotBeTaken: what is no file, and what a list says of it is not understood, is said to wait, where it may be meant.
func TestWhatCannotBeTaken(t *testing.T) {
	for names, want := range map[string]int{"*.csv": 2, "*": 4, "d e.*": 1, "*.hl7": 0} {
		f := &Fetcher{Route: "orders", Place: "holm", Below: "/out", Places: remote.New(&workspace.Environment{}), Settings: workspace.Listen{Names: names, Rhythm: time.Second}}
		f.Start()
		var there []found
		for _, i := range []remote.Info{
			{Name: "latest.csv", Other: true},
			{Name: "-rw-r--r-- 1 x x 3 Mär 29 10:00 d e.csv", Line: "-rw-r--r-- 1 x x 3 Mär 29 10:00 d e.csv"},
			{Name: "drwxr-xr-x 2 x x 3 Mär 29 10:00 done", Line: "drwxr-xr-x 2 x x 3 Mär 29 10:00 done"},
			{Name: "Folder of seals", Line: "Folder of seals"},
		} {
			there = append(there, found{i, "/out/" + i.Name})
		}
		if ready, _ := f.account(there, time.Now(), listen.Gate{Open: true}); len(ready) > 0 {
			t.Errorf("%s: %d are taken", names, len(ready))
		}
		list, all := f.Waiting(10)
		if len(list) != want || all != want {
			t.Errorf("%s: %d wait: %+v", names, all, list)
		}
		for _, w := range list {
			if (w.Name == "latest.csv") != strings.Contains(w.Reason, "is neither a file nor a folder") || (w.Name != "latest.csv") != strings.Contains(w.Reason, "cannot be understood") {
				t.Errorf("%+v", w)
			}
			if err := f.Demand(w.Name); err != nil {
				t.Error(err)
			}
		}
		if ready, _ := f.account(there, time.Now(), listen.Gate{Open: true}); len(ready) > 0 {
			t.Errorf("%s: %d are taken when somebody asks", names, len(ready))
		}
	}
}
