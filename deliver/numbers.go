package deliver

import (
	"fmt"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

// mostTried is how many numbers are tried for one name whose number was free when it was looked for, and taken when it was used.
const mostTried = 1000

// mostNumber is the largest number that is taken for one that is there: what says so of a larger one says it of all.
const mostNumber = 1 << 40

// longest is how many bytes a name may have: more, no common file system takes.
const longest = 255

// Counted gives the n-th name to try: orders.hl7, orders-2.hl7, orders-3.hl7. One that is too long with its number loses the
// end of what stands before that.
func Counted(name string, n int) string {
	if n < 2 {
		return name
	}
	ext := filepath.Ext(name)
	stem, end := strings.TrimSuffix(name, ext), fmt.Sprintf("-%d%s", n, ext)
	if over := len(filepath.Base(stem)) + len(end) - longest; over > 0 && over < len(filepath.Base(stem)) {
		n := len(stem) - over
		for least := n - utf8.UTFMax; n > max(least, 1) && !utf8.RuneStart(stem[n]); {
			n--
		}
		stem = stem[:n]
	}
	return stem + end
}

// Number tries names until one is not taken: the name itself, then with a number. There tells whether there is something of a name.
// However many are taken, few are looked at (twice the binary logarithm): a free number next to one that is taken is found by halves, so it need not be the
// least.
func Number(name string, there func(as string) (bool, error), try func(as string) (taken bool, err error)) error {
	for n, tries := 1, 1; ; tries++ {
		taken, err := try(Counted(name, n))
		if err != nil || !taken {
			return err
		}
		if tries == mostTried {
			return fmt.Errorf("%s is there already, with its numbers up to %d", name, n)
		}
		if n, err = free(name, n, there); err != nil {
			return err
		}
	}
}

// Free gives a name of which there is nothing: the name itself, or one with a number, as Number looks for it.
func Free(name string, there func(as string) (bool, error)) (string, error) {
	n, err := free(name, 0, there)
	return Counted(name, n), err
}

// free gives the number of a name, after one that is taken: it is free, and the one before it is not.
func free(name string, taken int, there func(as string) (bool, error)) (int, error) {
	free := 0
	for step, n := 1, taken+1; free-taken != 1; {
		is, err := there(Counted(name, n))
		switch {
		case err != nil:
			return 0, err
		case is && n > mostNumber:
			return 0, fmt.Errorf("%s is there already, with its numbers up to %d", name, n)
		case is:
			taken = n
		default:
			free = n
		}
		if n = (taken + free) / 2; free == 0 {
			n, step = taken+step, 2*step
		}
	}
	return free, nil
}
