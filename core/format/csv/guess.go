package csv

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"

	"ydrion/core/text"
	"ydrion/core/value"
)

// guessRows is how many rows of a sample are looked at.
const guessRows = 200

// partOfRow is how long a row without an end must be, in bytes, to be taken for a part of one.
const partOfRow = 32 << 10

// Guess finds out how a table is written from its first bytes, and gives the rows
// that were looked at. There are none if it is not a table. A delimiter and whether there is a
// heading are not guessed where they are known (0 and nil: they are not).
func Guess(head []byte, delimiter byte, heading *bool) (Dialect, [][]string) {
	var best Dialect
	var rows [][]string
	score := -1
	delimiters := []byte{',', ';', '\t', '|'}
	if first, rest, ok := cutLine(head); ok {
		if len(first) == 5 && bytes.EqualFold(first[:4], []byte("sep=")) {
			delimiters, head = first[4:5], rest
		}
	}
	if delimiter != 0 {
		delimiters = []byte{delimiter}
	}
	comment := byte(0)
	for len(head) > 0 && head[0] == '#' {
		_, rest, ok := cutLine(head)
		if !ok {
			break
		}
		comment, head = '#', rest
	}
	if c := behindQuotes(head); len(delimiters) > 1 && bytes.IndexByte(delimiters, c) >= 0 {
		delimiters = []byte{c}
	}
	halves := decimalCommas(head)
	for _, c := range delimiters {
		d := Dialect{Delimiter: c, Comment: comment}
		found := firstRows(d, head)
		if len(found) == 0 {
			continue
		}
		width, agree := usual(found)
		s := agree * min(width-1, 50) * 100 / len(found)
		if best.Delimiter == ',' && halves && width > 1 && agree == len(found) {
			score = -1 // commas are within numbers, and this separates all rows alike
		}
		if s > score {
			best, rows, score = d, found, s
		}
	}
	if len(rows) == 0 {
		return Dialect{}, nil
	}
	// Lines of a title before the heading have one column, or nothing in the others; and what
	// follows them looks like a heading, or like rows.
	width, _ := usual(rows)
	for title := 1; title < len(rows) && width > 1 && onlyFirst(rows[title-1]); title++ {
		if next := rows[title]; !onlyFirst(next) && (len(next) == width && isHeading(rows[title:]) || len(rows[title-1]) < width) {
			best.Skip, rows = title, rows[title:]
			break
		}
	}
	// A first row of which only a part is here is a heading, as it usually is: its columns are not known.
	if heading != nil && !*heading || heading == nil && !isPart(head) && !isHeading(rows) {
		best.NoHeading = true
		for i := range rows[0] {
			best.Columns = append(best.Columns, fmt.Sprintf("column_%d", i+1))
		}
	}
	return best, rows
}

// behindQuotes is what stands behind the first value if that is in quotes; 0: it is not, or nothing does.
func behindQuotes(head []byte) byte {
	if len(head) == 0 || head[0] != '"' {
		return 0
	}
	for i := 1; i+1 < len(head); i++ {
		if head[i] != '"' {
			continue
		}
		if i++; head[i] != '"' {
			return head[i]
		}
	}
	return 0
}

// decimalCommas tells whether there are commas, and all stand between digits.
func decimalCommas(head []byte) bool {
	digit := func(i int) bool { return i == len(head) || i >= 0 && head[i]-'0' <= 9 } // it may be cut off there
	some := false
	for i := 0; i < len(head); i++ {
		next := bytes.IndexByte(head[i:], ',')
		if next < 0 {
			break
		}
		if i += next; !digit(i-1) || !digit(i+1) {
			return false
		}
		some = true
	}
	return some
}

// isPart tells whether text has no whole row, and is too long to be one without its end.
func isPart(head []byte) bool { return len(head) >= partOfRow && bytes.IndexAny(head, "\r\n") < 0 }

// cutLine separates the first line, without its end, from the rest.
func cutLine(head []byte) (line, rest []byte, ok bool) {
	i := bytes.IndexAny(head, "\r\n")
	if i < 0 {
		return head, nil, false
	}
	line, rest = head[:i], head[i+1:]
	if head[i] == '\r' && len(rest) > 0 && rest[0] == '\n' {
		rest = rest[1:]
	}
	return line, rest, true
}

// onlyFirst tells whether nothing but the first column holds something.
func onlyFirst(row []string) bool {
	return row[0] != "" && strings.Join(row[1:], "") == ""
}

// usual is the number of columns that most rows have, and how many rows do.
func usual(rows [][]string) (width, agree int) {
	count := map[int]int{}
	for _, r := range rows {
		count[len(r)]++
		if n := count[len(r)]; n > agree || n == agree && len(r) > width {
			width, agree = len(r), n
		}
	}
	return width, agree
}

// firstRows splits the first rows of a sample; the last one may be cut off and is
// left out if there are others.
func firstRows(d Dialect, head []byte) [][]string {
	r := newReader(d, &text.Decoded{Charset: text.UTF8})
	r.terminator, _ = r.lineEnd(head)
	r.EOF = true
	var out [][]string
	for p := 0; p < len(head) && len(out) < guessRows; {
		if next := r.skipComments(head, p); next > p {
			p = next
			continue
		}
		s := scan{from: p}
		r.rows(head, &s, true, p)
		end := s.last
		if end <= p {
			if len(out) > 1 && len(head) >= partOfRow {
				break
			}
			end = len(head)
		}
		if row := bytes.Trim(head[p:end], "\r\n"); len(row) > 0 {
			out = append(out, r.Values(row))
		}
		p = end
	}
	return out
}

// isHeading tells whether the first row names columns: names are no numbers or days, and are not what stands below them. If one is
// not there, is there twice or begins with a digit (1st), something must say that they are names: a word above numbers and days, or
// above what begins with digits where it does not.
func isHeading(rows [][]string) bool {
	seen := map[string]bool{}
	odd, words := false, false
	for i, name := range rows[0] {
		name = strings.TrimSpace(name)
		if name != "" && isFigures(name) || value.IsNumber([]byte(name)) {
			return false
		}
		begins := name != "" && name[0]-'0' <= 9
		odd = odd || name == "" || seen[name] || begins
		seen[name] = true
		figures, digits, alike := true, true, false // what stands below it is or begins with
		some := false
		for _, row := range rows[1:] {
			if i >= len(row) || row[i] == "" {
				continue
			}
			v := row[i]
			if len(v) > 1 && v == rows[0][i] {
				return false
			}
			behind := strings.TrimLeft(v, "+-")
			some, figures, digits = true, figures && isFigures(v), digits && behind != "" && behind[0]-'0' <= 9
			alike = alike || v[0]-'0' <= 9 && !isFigures(v)
		}
		if begins && alike { // 5mg above 10mg
			return false
		}
		words = words || some && name != "" && (figures || digits && !begins)
	}
	return !odd || words
}

// isFigures tells whether a text has digits and no letters, as numbers and days have.
func isFigures(text string) bool {
	digits := false
	for _, c := range text {
		if unicode.IsLetter(c) {
			return false
		}
		digits = digits || unicode.IsDigit(c)
	}
	return digits
}

// CharName is a character in words.
func CharName(c byte) string { return charName(c) }
