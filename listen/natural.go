package listen

import "strings"

// Natural compares texts so that numbers in them count as numbers: 9
// comes before 10.
func Natural(a, b string) int {
	for a != "" && b != "" {
		i, j := digits(a), digits(b)
		if i > 0 && j > 0 {
			x, y := strings.TrimLeft(a[:i], "0"), strings.TrimLeft(b[:j], "0")
			if len(x) != len(y) {
				return len(x) - len(y)
			}
			if x != y {
				return strings.Compare(x, y)
			}
			a, b = a[i:], b[j:]
			continue
		}
		if a[0] != b[0] {
			return int(a[0]) - int(b[0])
		}
		a, b = a[1:], b[1:]
	}
	return len(a) - len(b)
}

func digits(s string) int {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}
