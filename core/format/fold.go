package format

// Line is one position of a record, for people.
type Line struct {
	Path  string `json:"path"`
	Value string `json:"value"`
	// Folded is how many values, the first of which stands at the path, are left out here: they
	// are of the rows of a long list.
	Folded int `json:"folded,omitempty" doc:"so many values are left out here, the first of them at the path: they are of rows of a long list"`
}

// FewLines is how many lines of a record are shown without folding its lists.
const FewLines = 120

// Lines are the values in an outline; the last one says so if the outline does not show all.
func Lines(nodes []Node) []Line {
	out := []Line{}
	for _, n := range nodes {
		switch {
		case n.Kind == Leaf:
			out = append(out, Line{Path: n.Path, Value: n.Value})
		case n.Cut:
			out = append(out, Line{Path: "…", Value: n.Name})
		}
	}
	return out
}

// Fold leaves out what stands in the rows of lists behind the first so many, if there are many lines;
// but not the paths to keep. A row's number stands in its path: /lines/4/unit, PO1[5]-3, article[5].
func Fold(lines []Line, rows int, keep map[string]bool) []Line {
	if len(lines) <= FewLines {
		return lines
	}
	out := []Line{}
	for _, l := range lines {
		switch {
		case rowOf(l.Path) <= rows || keep[l.Path]:
			out = append(out, l)
		case len(out) > 0 && out[len(out)-1].Folded > 0:
			out[len(out)-1].Folded++
		default:
			out = append(out, Line{Path: l.Path, Folded: 1})
		}
	}
	return out
}

// rowOf is the largest number of a row in a path, from 1; 0 if there is none.
func rowOf(path string) (most int) {
	pointer := path != "" && path[0] == '/'
	for i := 0; i < len(path); i++ {
		if opens := path[i] == '[' || pointer && path[i] == '/'; !opens {
			continue
		}
		n, k := 0, i+1
		for ; k < len(path) && '0' <= path[k] && path[k] <= '9' && n < 1<<40; k++ {
			n = 10*n + int(path[k]-'0')
		}
		if k == i+1 {
			continue
		}
		if k < len(path) && path[i] == '[' && path[k] == ']' {
			most = max(most, n)
		} else if path[i] == '/' && (k == len(path) || path[k] == '/') {
			most = max(most, n+1)
		}
	}
	return most
}
