package value

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"math"
	"math/big"
	"math/bits"
	"strconv"
	"strings"
)

// Decimal is an exact decimal number: coefficient × 10^-scale. The coefficient
// is a machine integer as long as it fits and a big integer otherwise. The
// zero value is 0.
type Decimal struct {
	coef  int64
	big   *big.Int // nil when coef holds the coefficient
	scale int32    // digits after the decimal mark, 0 or more
}

// MaxDigits bounds the length of a number that is computed with.
const MaxDigits = 1000

var errNumber = errors.New("not a number")

// ParseDecimal reads an optional minus sign, digits, and optionally a point and
// digits: the form -?[0-9]+(\.[0-9]+)?.
func ParseDecimal(b []byte) (Decimal, error) {
	if !IsNumber(b) || len(b) > MaxDigits {
		return Decimal{}, errNumber
	}
	var d Decimal
	var u uint64
	for i, c := range b {
		switch {
		case c == '-':
		case c == '.':
			d.scale = int32(len(b) - i - 1)
		default:
			hi, lo := bits.Mul64(u, 10)
			lo, carry := bits.Add64(lo, uint64(c-'0'), 0)
			if hi+carry != 0 || lo > math.MaxInt64 {
				return parseBig(b)
			}
			u = lo
		}
	}
	d.coef = int64(u)
	if b[0] == '-' {
		d.coef = -d.coef
	}
	return d, nil
}

func parseBig(b []byte) (Decimal, error) {
	digits := make([]byte, 0, len(b))
	scale := int32(0)
	for i, c := range b {
		if c == '.' {
			scale = int32(len(b) - i - 1)
			continue
		}
		digits = append(digits, c)
	}
	n, ok := new(big.Int).SetString(string(digits), 10)
	if !ok {
		return Decimal{}, errNumber
	}
	return Decimal{big: n, scale: scale}, nil
}

// IsNumber tells whether b has the form -?[0-9]+(\.[0-9]+)?.
func IsNumber(b []byte) bool {
	if n := len(b); 0 < n && n <= 8 && cap(b) >= 8 { // a word at once: how long it is would be guessed wrong by a loop
		const low, high = 0x0101010101010101, 0x8080808080808080
		x := binary.LittleEndian.Uint64(b[:8]) ^ '0'*low
		other := (x&^high + 0x76*low | x) & high << (64 - 8*n) >> (64 - 8*n) // the high bit of each byte that is no digit
		from := 0
		if b[0] == '-' {
			other &^= 0x80
			from = 1
		}
		if other == 0 {
			return from < n
		}
		point := bits.TrailingZeros64(other) >> 3
		return other&(other-1) == 0 && b[point] == '.' && from < point && point < n-1
	}
	i := 0
	if i < len(b) && b[i] == '-' {
		i++
	}
	from := i
	for i < len(b) && b[i]-'0' <= 9 {
		i++
	}
	if i == from {
		return false
	}
	if i == len(b) {
		return true
	}
	if b[i] != '.' {
		return false
	}
	i++
	from = i
	for i < len(b) && b[i]-'0' <= 9 {
		i++
	}
	return i > from && i == len(b)
}

// IsExponent tells whether b is a number with an exponent as JSON writes it (RFC 8259, 6).
func IsExponent(b []byte) bool {
	i := bytes.IndexAny(b, "eE")
	if i < 0 || !IsNumber(b[:i]) {
		return false
	}
	digits := b[i+1:]
	if len(digits) > 0 && (digits[0] == '+' || digits[0] == '-') {
		digits = digits[1:]
	}
	return IsInteger(digits) && digits[0] != '-'
}

// Written brings a number as files hold it into the form that this package reads: with a
// plus sign, without a digit before or behind the point, with an exponent (XML Schema part
// 2, 3.2.3 and 3.2.5, to which Table Schema refers; infinity and what is not a number are not
// numbers here). It is false if b is not a number. What has the form is given as it is.
func Written(b []byte) ([]byte, bool) {
	if IsNumber(b) {
		return b, true
	}
	mantissa, exponent := b, []byte(nil)
	if i := bytes.IndexAny(b, "eE"); i >= 0 {
		mantissa, exponent = b[:i], b[i:]
		digits := exponent[1:]
		if len(digits) > 0 && (digits[0] == '+' || digits[0] == '-') {
			digits = digits[1:]
		}
		if !IsInteger(digits) || digits[0] == '-' {
			return nil, false
		}
		if IsNumber(mantissa) {
			return b, true
		}
	}
	sign, digits := "", mantissa
	if len(digits) > 0 && (digits[0] == '+' || digits[0] == '-') {
		if digits[0] == '-' {
			sign = "-"
		}
		digits = digits[1:]
	}
	whole, part, point := bytes.Cut(digits, []byte("."))
	if len(whole) == 0 && len(part) == 0 || len(whole) > 0 && whole[0] == '-' {
		return nil, false
	}
	out := append(make([]byte, 0, len(b)+2), sign...)
	if len(whole) == 0 {
		out = append(out, '0')
	}
	out = append(out, whole...)
	if point && len(part) > 0 {
		out = append(append(out, '.'), part...)
	}
	if !IsNumber(out) {
		return nil, false
	}
	return append(out, exponent...), true
}

// ParseExponent reads a number with an exponent, exactly. One that has more than MaxDigits
// digits when it is written out is refused.
func ParseExponent(b []byte) (Decimal, error) {
	if !IsExponent(b) {
		return Decimal{}, errNumber
	}
	i := bytes.IndexAny(b, "eE")
	exponent, err := strconv.Atoi(strings.TrimPrefix(string(b[i+1:]), "+"))
	if err != nil || exponent > MaxDigits || exponent < -MaxDigits {
		return Decimal{}, errNumber
	}
	minus := bytes.HasPrefix(b, []byte("-"))
	whole, part, _ := bytes.Cut(bytes.TrimPrefix(b[:i], []byte("-")), []byte("."))
	digits := append(append([]byte{}, whole...), part...)
	point := len(whole) + exponent // where the point stands among the digits
	for point > len(digits) {
		digits = append(digits, '0')
	}
	if point < 1 {
		digits = append(bytes.Repeat([]byte("0"), 1-point), digits...)
		point = 1
	}
	out := digits[:point:point]
	if point < len(digits) {
		out = append(append(out, '.'), digits[point:]...)
	}
	if minus {
		out = append([]byte("-"), out...)
	}
	return ParseDecimal(out)
}

// IsInteger tells whether b has the form -?[0-9]+.
func IsInteger(b []byte) bool {
	i := 0
	if i < len(b) && b[i] == '-' {
		i++
	}
	from := i
	for i < len(b) && b[i]-'0' <= 9 {
		i++
	}
	return i > from && i == len(b)
}

// Int is a whole number.
func Int(n int64) Decimal { return Decimal{coef: n} }

func (d Decimal) int() *big.Int {
	if d.big != nil {
		return d.big
	}
	return big.NewInt(d.coef)
}

func fromBig(n *big.Int, scale int32) Decimal {
	if n.IsInt64() {
		return Decimal{coef: n.Int64(), scale: scale}
	}
	return Decimal{big: n, scale: scale}
}

var ten = big.NewInt(10)

func pow10(n int32) *big.Int { return new(big.Int).Exp(ten, big.NewInt(int64(n)), nil) }

// multiply is a × b where that is a machine integer.
func multiply(a, b int64) (int64, bool) {
	n := a * b
	return n, a == 0 || n/a == b && (a != -1 || b != math.MinInt64)
}

// tens are the powers of ten that are machine integers.
var tens = func() (t [19]int64) {
	t[0] = 1
	for i := range t[1:] {
		t[i+1] = t[i] * 10
	}
	return t
}()

// shift is n × 10^by where that is a machine integer; by is 0 or more.
func shift(n int64, by int32) (int64, bool) {
	if int(by) >= len(tens) {
		return 0, n == 0
	}
	if by == 0 {
		return n, true
	}
	return multiply(n, tens[by])
}

// alignSmall is align where all are machine integers.
func alignSmall(a, b Decimal) (x, y int64, scale int32, ok bool) {
	if a.big != nil || b.big != nil {
		return 0, 0, 0, false
	}
	if a.scale == b.scale {
		return a.coef, b.coef, a.scale, true
	}
	scale = max(a.scale, b.scale)
	x, ok = shift(a.coef, scale-a.scale)
	y, fits := shift(b.coef, scale-b.scale)
	return x, y, scale, ok && fits
}

// align gives both coefficients at the larger scale.
func align(a, b Decimal) (x, y *big.Int, scale int32) {
	x, y = a.int(), b.int()
	scale = max(a.scale, b.scale)
	if a.scale < scale {
		x = new(big.Int).Mul(x, pow10(scale-a.scale))
	}
	if b.scale < scale {
		y = new(big.Int).Mul(y, pow10(scale-b.scale))
	}
	return x, y, scale
}

// Add is a + b.
func (d Decimal) Add(e Decimal) Decimal {
	if a, b, scale, ok := alignSmall(d, e); ok {
		if sum := a + b; (sum > a) == (b > 0) {
			return Decimal{coef: sum, scale: scale}
		}
	}
	x, y, scale := align(d, e)
	return fromBig(new(big.Int).Add(x, y), scale)
}

// Neg is -d.
func (d Decimal) Neg() Decimal {
	if d.big == nil && d.coef != math.MinInt64 {
		return Decimal{coef: -d.coef, scale: d.scale}
	}
	return fromBig(new(big.Int).Neg(d.int()), d.scale)
}

// Sub is d - e.
func (d Decimal) Sub(e Decimal) Decimal { return d.Add(e.Neg()) }

// Mul is d × e, exact: the scales add up.
func (d Decimal) Mul(e Decimal) Decimal {
	if d.big == nil && e.big == nil {
		if n, ok := multiply(d.coef, e.coef); ok {
			return Decimal{coef: n, scale: d.scale + e.scale}
		}
	}
	return fromBig(new(big.Int).Mul(d.int(), e.int()), d.scale+e.scale)
}

// Div is d ÷ e, rounded at the given number of decimals. It is false when e is zero.
func (d Decimal) Div(e Decimal, decimals int32, mode Rounding) (Decimal, bool) {
	if e.Sign() == 0 {
		return Decimal{}, false
	}
	if a, b, _, ok := alignSmall(d, e); ok {
		if a, ok = shift(a, decimals); ok {
			if q, ok := smallQuotient(a, b, mode); ok {
				return Decimal{coef: q, scale: decimals}, true
			}
		}
	}
	x, y, _ := align(d, e)
	x = new(big.Int).Mul(x, pow10(decimals))
	return fromBig(quotient(x, y, mode), decimals), true
}

// Rounding says what happens to a digit that is rounded away.
type Rounding uint8

const (
	HalfEven Rounding = iota // ties to the even neighbour
	HalfUp                   // ties away from zero
	Down                     // towards zero
	Up                       // away from zero
)

// Round gives the number with the given decimals, which may be more than it
// has.
func (d Decimal) Round(decimals int32, mode Rounding) Decimal {
	if d.big == nil {
		if decimals >= d.scale {
			if n, ok := shift(d.coef, decimals-d.scale); ok {
				return Decimal{coef: n, scale: decimals}
			}
		} else if by, ok := shift(1, d.scale-decimals); ok {
			if q, ok := smallQuotient(d.coef, by, mode); ok {
				return Decimal{coef: q, scale: decimals}
			}
		}
	}
	if decimals >= d.scale {
		n := new(big.Int).Mul(d.int(), pow10(decimals-d.scale))
		return fromBig(n, decimals)
	}
	return fromBig(quotient(d.int(), pow10(d.scale-decimals), mode), decimals)
}

// smallQuotient is quotient of machine integers; it is false where their signs cannot be turned.
func smallQuotient(x, y int64, mode Rounding) (int64, bool) {
	if x == math.MinInt64 || y == math.MinInt64 {
		return 0, false
	}
	q, r := x/y, x%y
	if r == 0 {
		return q, true
	}
	away := int64(1)
	if (x < 0) != (y < 0) {
		away = -1
	}
	size := max(y, -y)
	half := cmp.Compare(max(r, -r), size-max(r, -r))
	if grows(mode, half, q&1 != 0) {
		q += away
	}
	return q, true
}

// grows tells whether a quotient is rounded away from zero: how its rest compares with half of the divisor, and whether
// it is odd.
func grows(mode Rounding, half int, odd bool) bool {
	switch mode {
	case HalfEven:
		return half > 0 || half == 0 && odd
	case HalfUp:
		return half >= 0
	case Up:
		return true
	}
	return false
}

func quotient(x, y *big.Int, mode Rounding) *big.Int {
	q, r := new(big.Int).QuoRem(x, y, new(big.Int))
	if r.Sign() == 0 {
		return q
	}
	away := big.NewInt(int64(x.Sign() * y.Sign()))
	twice := new(big.Int).Abs(r)
	half := twice.Lsh(twice, 1).CmpAbs(y)
	if grows(mode, half, q.Bit(0) == 1) {
		q.Add(q, away)
	}
	return q
}

// Cmp is -1, 0 or 1.
func (d Decimal) Cmp(e Decimal) int {
	if a, b, _, ok := alignSmall(d, e); ok {
		return cmp.Compare(a, b)
	}
	x, y, _ := align(d, e)
	return x.Cmp(y)
}

// Sign is -1, 0 or 1.
func (d Decimal) Sign() int {
	if d.big != nil {
		return d.big.Sign()
	}
	switch {
	case d.coef < 0:
		return -1
	case d.coef > 0:
		return 1
	}
	return 0
}

// Int64 gives the number if it is whole and fits.
func (d Decimal) Int64() (int64, bool) {
	w := d.Round(0, Down)
	if w.big != nil || w.Cmp(d) != 0 {
		return 0, false
	}
	return w.coef, true
}

// Append writes plain decimal notation.
func (d Decimal) Append(to []byte) []byte {
	var digits []byte
	var scratch [24]byte
	if d.big != nil {
		digits = d.big.Append(nil, 10)
	} else {
		digits = strconv.AppendInt(scratch[:0], d.coef, 10)
	}
	if digits[0] == '-' {
		to = append(to, '-')
		digits = digits[1:]
	}
	point := len(digits) - int(d.scale)
	if d.scale == 0 {
		return append(to, digits...)
	}
	if point <= 0 {
		to = append(to, "0."...)
		for ; point < 0; point++ {
			to = append(to, '0')
		}
		return append(to, digits...)
	}
	to = append(to, digits[:point]...)
	to = append(to, '.')
	return append(to, digits[point:]...)
}

func (d Decimal) String() string { return string(d.Append(nil)) }
