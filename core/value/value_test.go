package value

import (
	"errors"
	"fmt"
	"math/big"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

func decimal(t *testing.T, s string) Decimal {
	t.Helper()
	d, err := ParseDecimal([]byte(s))
	if err != nil {
		t.Fatalf("%q: %v", s, err)
	}
	return d
}

// TestIsNumber: what is a number is what an expression says, of all short texts of some characters and of some longer ones, with
// memory behind them that holds something else or without.
func TestIsNumber(t *testing.T) {
	form := regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)
	check := func(b []byte) {
		for _, behind := range []string{"", "1", "........", "99999999", "x-------"} {
			text := append(slices.Clip(slices.Clone(b)), behind...)
			if got := IsNumber(text[:len(b)]); got != form.Match(b) {
				t.Fatalf("%q before %q: %v", b, behind, got)
			}
		}
	}
	const chars = "-.07/:+\xb0"
	var all func(b []byte)
	all = func(b []byte) {
		if check(b); len(b) < 5 {
			for i := range len(chars) {
				all(append(slices.Clip(b), chars[i]))
			}
		}
	}
	all(nil)
	random := rand.New(rand.NewPCG(7, 7))
	for range 20_000 {
		b := make([]byte, 6+random.IntN(8))
		for i := range b {
			if b[i] = byte('0' + random.IntN(10)); random.IntN(6) == 0 {
				b[i] = chars[random.IntN(len(chars))]
			}
		}
		check(b)
	}
}

func TestDecimalKeepsWhatWasWritten(t *testing.T) {
	for _, s := range []string{"0", "12", "-12", "12.50", "0.001", "-0.5", "9223372036854775807", "9223372036854775808", "-123456789012345678901234567890.123"} {
		if got := decimal(t, s).String(); got != s {
			t.Errorf("%s became %s", s, got)
		}
	}
	for _, s := range []string{"", "-", ".5", "5.", "1e3", "1,5", "+1", " 1", "0x1", "١"} {
		if IsNumber([]byte(s)) {
			t.Errorf("%q was taken for a number", s)
		}
	}
}

func TestExponents(t *testing.T) {
	for in, want := range map[string]string{"1e3": "1000", "1E+3": "1000", "-2.50e1": "-25.0", "2.5e-3": "0.0025", "0e5": "000000", "12.345e2": "1234.5", "1e400": "1" + strings.Repeat("0", 400), "-1e-4": "-0.0001"} {
		got, err := ParseExponent([]byte(in))
		if wanted := decimal(t, want); err != nil || got.Cmp(wanted) != 0 {
			t.Errorf("%s became %s (%v), want %s", in, got, err, want)
		}
	}
	for _, s := range []string{"", "e", "1e", "1e+", "e5", "1e--5", "1e5.0", "1.e5", "1e99999", "1e-99999", "1e99999999999999999999", "12"} {
		if got, err := ParseExponent([]byte(s)); !errors.Is(err, errNumber) {
			t.Errorf("%q became %s, %v", s, got, err)
		}
	}
}

func TestDecimalArithmetic(t *testing.T) {
	tests := []struct{ a, op, b, want string }{
		{"0.1", "+", "0.2", "0.3"},
		{"9223372036854775807", "+", "1", "9223372036854775808"},
		{"-9223372036854775807", "-", "2", "-9223372036854775809"},
		{"1.50", "-", "1.5", "0.00"},
		{"99999999999", "*", "99999999999.5", "9999999999850000000000.5"},
		{"1", "/", "3", "0.333333333333"},
		{"2", "/", "3", "0.666666666667"},
		{"-1", "/", "8", "-0.125000000000"},
	}
	for _, test := range tests {
		a, b := decimal(t, test.a), decimal(t, test.b)
		var got Decimal
		switch test.op {
		case "+":
			got = a.Add(b)
		case "-":
			got = a.Sub(b)
		case "*":
			got = a.Mul(b)
		case "/":
			got, _ = a.Div(b, 12, HalfEven)
		}
		if got.String() != test.want {
			t.Errorf("%s %s %s = %s, want %s", test.a, test.op, test.b, got, test.want)
		}
	}
	if _, ok := decimal(t, "1").Div(decimal(t, "0.00"), 2, HalfEven); ok {
		t.Error("a division by zero went well")
	}
}

func TestDecimalRounding(t *testing.T) {
	tests := []struct {
		in                           string
		decimals                     int32
		halfEven, halfUp, down, upTo string
	}{
		{"12.25", 1, "12.2", "12.3", "12.2", "12.3"},
		{"12.35", 1, "12.4", "12.4", "12.3", "12.4"},
		{"-12.25", 1, "-12.2", "-12.3", "-12.2", "-12.3"},
		{"12.251", 1, "12.3", "12.3", "12.2", "12.3"},
		{"0.5", 0, "0", "1", "0", "1"},
		{"7", 2, "7.00", "7.00", "7.00", "7.00"},
	}
	for _, test := range tests {
		d := decimal(t, test.in)
		for mode, want := range map[Rounding]string{HalfEven: test.halfEven, HalfUp: test.halfUp, Down: test.down, Up: test.upTo} {
			if got := d.Round(test.decimals, mode).String(); got != want {
				t.Errorf("%s to %d, mode %d: %s, want %s", test.in, test.decimals, mode, got, want)
			}
		}
	}
}

// TestDecimalsAsFractions holds what is made of decimals, of machine size, beyond it and on its edge, against fractions.
func TestDecimalsAsFractions(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	edges := []string{"0", "1", "5", "9223372036854775807", "9223372036854775808", "4611686018427387904", "3037000500", "1000000000000000000", "10000000000000000000", "922337203685477580"}
	number := func() string {
		digits := edges[r.IntN(len(edges))]
		if r.IntN(2) == 0 {
			digits = strconv.FormatUint(r.Uint64()>>r.IntN(64), 10)
		}
		if scale := r.IntN(22); r.IntN(3) > 0 {
			digits = strings.Repeat("0", max(0, scale+1-len(digits))) + digits
			digits = strings.TrimSuffix(digits[:len(digits)-scale]+"."+digits[len(digits)-scale:], ".")
		}
		return []string{"", "-"}[r.IntN(2)] + digits
	}
	// rounded is a fraction with so many decimals.
	rounded := func(of *big.Rat, decimals int, mode Rounding) string {
		scaled := new(big.Rat).Mul(of, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(decimals)), nil)))
		size := new(big.Rat).Abs(scaled)
		whole := new(big.Int).Quo(size.Num(), size.Denom())
		rest := new(big.Rat).Sub(size, new(big.Rat).SetInt(whole))
		half := rest.Cmp(big.NewRat(1, 2))
		if rest.Sign() > 0 && (mode == Up || mode == HalfUp && half >= 0 || mode == HalfEven && (half > 0 || half == 0 && whole.Bit(0) == 1)) {
			whole.Add(whole, big.NewInt(1))
		}
		digits := whole.String()
		if decimals > 0 {
			digits = strings.Repeat("0", max(0, decimals+1-len(digits))) + digits
			digits = digits[:len(digits)-decimals] + "." + digits[len(digits)-decimals:]
		}
		if of.Sign() < 0 && whole.Sign() > 0 {
			digits = "-" + digits
		}
		return digits
	}
	for range 10_000 {
		a, b := number(), number()
		x, y := decimal(t, a), decimal(t, b)
		p, _ := new(big.Rat).SetString(a)
		q, _ := new(big.Rat).SetString(b)
		scale := func(s string) int { _, part, _ := strings.Cut(s, "."); return len(part) }
		check := func(what string, got Decimal, want string) {
			if got.String() != want {
				t.Errorf("%s of %s and %s is %s, not %s", what, a, b, got, want)
			}
		}
		check("sum", x.Add(y), rounded(new(big.Rat).Add(p, q), max(scale(a), scale(b)), Down))
		check("difference", x.Sub(y), rounded(new(big.Rat).Sub(p, q), max(scale(a), scale(b)), Down))
		check("product", x.Mul(y), rounded(new(big.Rat).Mul(p, q), scale(a)+scale(b), Down))
		if x.Cmp(y) != p.Cmp(q) {
			t.Errorf("%s compared with %s is %d", a, b, x.Cmp(y))
		}
		if decimals := r.IntN(14); q.Sign() != 0 {
			mode := []Rounding{HalfEven, HalfUp, Down, Up}[r.IntN(4)]
			got, _ := x.Div(y, int32(decimals), mode)
			check("quotient", got, rounded(new(big.Rat).Quo(p, q), decimals, mode))
		}
		for _, mode := range []Rounding{HalfEven, HalfUp, Down, Up} {
			decimals := r.IntN(24)
			check(fmt.Sprintf("%d decimals (%d)", decimals, mode), x.Round(int32(decimals), mode), rounded(p, decimals, mode))
		}
	}
}

// FuzzDecimal checks sums and products against big rationals.
func FuzzDecimal(f *testing.F) {
	f.Add("1.5", "-2.25")
	f.Add("9223372036854775807", "9223372036854775807")
	f.Fuzz(func(t *testing.T, x, y string) {
		if len(x) > 60 || len(y) > 60 || !IsNumber([]byte(x)) || !IsNumber([]byte(y)) {
			return
		}
		a, _ := ParseDecimal([]byte(x))
		b, _ := ParseDecimal([]byte(y))
		r, _ := new(big.Rat).SetString(x)
		s, _ := new(big.Rat).SetString(y)
		check := func(what string, got Decimal, want *big.Rat) {
			back, ok := new(big.Rat).SetString(got.String())
			if !ok || back.Cmp(want) != 0 {
				t.Errorf("%s of %s and %s is %s, want %s", what, x, y, got, want.FloatString(20))
			}
		}
		check("sum", a.Add(b), new(big.Rat).Add(r, s))
		check("difference", a.Sub(b), new(big.Rat).Sub(r, s))
		check("product", a.Mul(b), new(big.Rat).Mul(r, s))
		if a.Cmp(b) != r.Cmp(s) {
			t.Errorf("%s compared with %s is %d", x, y, a.Cmp(b))
		}
	})
}

func TestMomentExists(t *testing.T) {
	for _, test := range []struct {
		year       int16
		month, day uint8
		want       bool
	}{{2024, 2, 29, true}, {2026, 2, 29, false}, {1900, 2, 29, false}, {2000, 2, 29, true}, {2026, 4, 31, false}, {2026, 12, 31, true}, {2026, 13, 1, false}, {2026, 0, 1, false}} {
		m := Moment{Year: test.year, Month: test.month, Day: test.day}
		if m.Valid() != test.want {
			t.Errorf("%d-%d-%d exists: %v", test.year, test.month, test.day, m.Valid())
		}
	}
}

// BenchmarkDecimals is what an invoice asks for each line: a quantity times a price, rounded, added to a sum of another scale.
func BenchmarkDecimals(b *testing.B) {
	b.ReportAllocs()
	quantity, _ := ParseDecimal([]byte("12.5"))
	price, _ := ParseDecimal([]byte("3.495"))
	for b.Loop() {
		sum := Int(0)
		for range 1000 {
			sum = sum.Add(quantity.Mul(price).Round(2, HalfUp))
			if sum.Cmp(Int(100_000_000)) > 0 {
				b.Fatal(sum)
			}
		}
	}
}
