package listen

import "testing"

func TestNumbersInTextsCompareAsNumbers(t *testing.T) {
	for _, test := range []struct{ less, more string }{{"9", "10"}, {"batch-9-b", "batch-10-a"}, {"007", "8"}, {"a", "b"}, {"", "a"}, {"a1", "a1b"}} {
		if Natural(test.less, test.more) >= 0 || Natural(test.more, test.less) <= 0 {
			t.Errorf("%q does not come before %q", test.less, test.more)
		}
	}
	if Natural("01", "1") != 0 {
		t.Error("01 and 1 are not the same number")
	}
}
