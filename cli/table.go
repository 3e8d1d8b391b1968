package cli

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/sys/unix"
)

// table prints rows in aligned columns; columns of numbers are right-aligned. Where the lines
// would be longer than the terminal is wide, columns go on in lines of their own below, set in,
// and what is still too long is broken. What is not a terminal is as wide as is needed, unless
// COLUMNS says otherwise.
func (a *app) table(head string, rows [][]string) error {
	all := append([][]string{strings.Split(head, ",")}, rows...)
	for i, r := range all {
		if all[i] = slices.Clone(r); i > 0 {
			for c := range all[i] {
				all[i][c] = inLine.Replace(all[i][c])
			}
		}
	}
	width, numeric := make([]int, len(all[0])), make([]bool, len(all[0]))
	for c := range width {
		numeric[c] = len(rows) > 0
		for i, r := range all {
			width[c] = max(width[c], utf8.RuneCountInString(r[c]))
			if _, err := strconv.ParseInt(r[c], 10, 64); i > 0 && err != nil {
				numeric[c] = false
			}
		}
	}
	lines := fold(width, a.width())
	for _, r := range all {
		for at, columns := range lines {
			var line strings.Builder
			if at > 0 {
				line.WriteString(setIn)
			}
			begin := line.Len()
			for _, c := range columns {
				pad := strings.Repeat(" ", width[c]-utf8.RuneCountInString(r[c]))
				if numeric[c] {
					line.WriteString(pad + r[c] + "  ")
				} else {
					line.WriteString(r[c] + pad + "  ")
				}
			}
			text := strings.TrimRight(line.String(), " ")
			if at > 0 && len(text) < begin {
				continue // nothing to say
			}
			for _, part := range broken(text, a.width()) {
				if _, err := fmt.Fprintln(a.out, part); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// inLine keeps a name with line ends in its line.
var inLine = strings.NewReplacer("\n", `\n`, "\r", `\r`, "\t", `\t`)

// setIn stands before what goes on from the line above.
const setIn = "    "

// fold says which columns stand in which line.
func fold(width []int, most int) (lines [][]int) {
	used := 0
	for c, w := range width {
		if c == 0 || most > 0 && used+w > most {
			lines, used = append(lines, nil), 0
			if c > 0 {
				used = len(setIn)
			}
		}
		lines[len(lines)-1] = append(lines[len(lines)-1], c)
		used += w + 2
	}
	return lines
}

// broken cuts a line into parts of at most so many characters: between words where it can.
func broken(line string, most int) (parts []string) {
	for in := ""; ; in = setIn {
		line = in + line
		if most <= 2*len(setIn) || utf8.RuneCountInString(line) <= most {
			return append(parts, line)
		}
		end, runes, space := len(line), 0, 0
		for i, r := range line {
			if runes++; runes > most {
				end = i
				break
			}
			if r == ' ' && strings.TrimSpace(line[:i]) != "" {
				space = i
			}
		}
		if line[end] == ' ' {
			space = end
		}
		if space > 0 {
			end = space
		}
		parts = append(parts, strings.TrimRight(line[:end], " "))
		line = strings.TrimLeft(line[end:], " ")
	}
}

// width is how many characters a line has room for; 0: as many as are needed.
func (a *app) width() int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	f, isFile := a.raw.(*os.File)
	if !isFile {
		return 0
	}
	size, err := unix.IoctlGetWinsize(int(f.Fd()), unix.TIOCGWINSZ)
	if err != nil {
		return 0
	}
	return int(size.Col)
}

// Times in lists are those of this machine's zone, which the heading names: see zoned.
const (
	seconds = "2006-01-02 15:04:05"
	minutes = "2006-01-02 15:04"
)

// moment writes a time in this machine's zone; its offset is added where it is not that of now,
// which the heading names.
func moment(t time.Time, layout string) string {
	t = t.Local()
	_, offset := t.Zone()
	if _, now := time.Now().Zone(); offset != now {
		layout += " -07:00"
	}
	return t.Format(layout)
}

// zoned is a column's heading with the zone of its times.
func zoned(heading string) string {
	now := time.Now()
	if name, offset := now.Zone(); offset == 0 && name == "UTC" {
		return heading + " (UTC)"
	}
	return heading + now.Format(" (-07:00)")
}
