// Package value has what a field can hold. Absent, empty and null are three
// different things:
//
//   - absent: the field is not there (a CSV row that is too short, `||` in HL7);
//   - empty: it is there and holds nothing (an empty CSV cell, "" in JSON);
//   - null: it says that there is no value (JSON null, `""` in HL7).
//
// Numbers are exact decimals and keep how they were written.
package value

// Kind is the kind of a value.
type Kind uint8

const (
	Absent Kind = iota
	Empty
	Null
	Text
	Number
	Bool
	Time
)

var kindNames = [...]string{"absent", "empty", "null", "text", "number", "boolean", "time"}

func (k Kind) String() string { return kindNames[k] }

// Value is a small struct that is passed by value. Bytes is the value as
// written for text and for numbers that nothing has computed with yet.
type Value struct {
	Kind   Kind
	Truth  bool
	Bytes  []byte
	Number Decimal
	Time   Moment
}

// OfText is a text, or the empty value if it holds nothing.
func OfText(b []byte) Value {
	if len(b) == 0 {
		return Value{Kind: Empty}
	}
	return Value{Kind: Text, Bytes: b}
}

// OfNumber is a computed number.
func OfNumber(d Decimal) Value { return Value{Kind: Number, Number: d} }

// OfWritten is a number that keeps how it was written (zeros included).
func OfWritten(d Decimal, written []byte) Value {
	return Value{Kind: Number, Number: d, Bytes: written}
}

// OfBool is a truth value.
func OfBool(b bool) Value { return Value{Kind: Bool, Truth: b} }

// OfTime is a date, a time or both.
func OfTime(m Moment) Value { return Value{Kind: Time, Time: m} }

// Has tells whether there is something: not absent, empty or null.
func (v Value) Has() bool { return v.Kind > Null }

// Append writes the value as text: numbers as written or in plain decimal
// notation, times in RFC 3339 form cut to their precision, true or false.
func (v Value) Append(to []byte) []byte {
	switch v.Kind {
	case Text:
		return append(to, v.Bytes...)
	case Number:
		if v.Bytes != nil {
			return append(to, v.Bytes...)
		}
		return v.Number.Append(to)
	case Bool:
		if v.Truth {
			return append(to, "true"...)
		}
		return append(to, "false"...)
	case Time:
		return v.Time.Append(to)
	}
	return to
}
