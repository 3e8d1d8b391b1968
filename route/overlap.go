package route

import (
	"strings"

	"ydrion/workspace"
)

// share tells whether a file could be taken by both of two routes that listen in one folder:
// whether some name fits both. It is not known where names are regular expressions.
func share(a, b *workspace.Route) (shared, known bool) {
	if a.Expression != nil || b.Expression != nil {
		return true, false
	}
	for _, x := range alternatives(a.Listen.Names) {
		for _, y := range alternatives(b.Listen.Names) {
			if overlap(x, y) {
				return true, true
			}
		}
	}
	return false, true
}

// sameMails tells whether a mail could be meant by both of two routes.
func sameMails(a, b *workspace.Route) bool {
	both := func(x, y string) bool {
		if x == "" || y == "" {
			return true
		}
		for _, x := range alternatives(strings.ToLower(x)) {
			for _, y := range alternatives(strings.ToLower(y)) {
				if overlap(x, y) {
					return true
				}
			}
		}
		return false
	}
	return both(a.Mails.From, b.Mails.From) && both(a.Mails.Subject, b.Mails.Subject)
}

// alternatives are the patterns that a pattern with braces stands for. There are few: checking
// sees to that.
func alternatives(pattern string) []string {
	open := strings.IndexByte(pattern, '{')
	if open < 0 {
		return []string{pattern}
	}
	depth, from := 0, open+1
	var parts []string
	for i := open; i < len(pattern); i++ {
		switch pattern[i] {
		case '{':
			depth++
		case ',':
			if depth == 1 {
				parts, from = append(parts, pattern[from:i]), i+1
			}
		case '}':
			if depth--; depth > 0 {
				continue
			}
			var out []string
			for _, part := range append(parts, pattern[from:i]) {
				out = append(out, alternatives(pattern[:open]+part+pattern[i+1:])...)
			}
			return out
		}
	}
	return []string{pattern} // it is not closed, and nothing that checking lets pass
}

// overlap tells whether some name fits two patterns of * and ? and characters. What stands in
// brackets is taken for any character: it is careful.
func overlap(a, b string) bool {
	x, y := symbols(a), symbols(b)
	// fits[i][j] tells whether the first i symbols of x and j of y can stand for one text.
	fits := make([][]bool, len(x)+1)
	for i := range fits {
		fits[i] = make([]bool, len(y)+1)
		for j := range fits[i] {
			switch {
			case i == 0 && j == 0:
				fits[i][j] = true
			case i > 0 && x[i-1] == many, j > 0 && y[j-1] == many:
				fits[i][j] = i > 0 && fits[i-1][j] && (x[i-1] == many || y[max(j, 1)-1] == many) || j > 0 && fits[i][j-1] && (y[j-1] == many || x[max(i, 1)-1] == many)
			case i > 0 && j > 0:
				fits[i][j] = fits[i-1][j-1] && (x[i-1] == y[j-1] || x[i-1] == one || y[j-1] == one)
			}
		}
	}
	return fits[len(x)][len(y)]
}

// Symbols of patterns besides characters.
const (
	many rune = -1 // any number of characters
	one  rune = -2 // one character
)

func symbols(pattern string) (out []rune) {
	bracket, escaped := false, false
	for _, c := range pattern {
		switch {
		case bracket:
			bracket = c != ']'
		case escaped:
			out, escaped = append(out, c), false
		case c == '\\':
			escaped = true
		case c == '*':
			out = append(out, many)
		case c == '?':
			out = append(out, one)
		case c == '[':
			out, bracket = append(out, one), true
		default:
			out = append(out, c)
		}
	}
	return out
}
