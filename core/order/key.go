package order

import (
	"bytes"
	"encoding/binary"
	"math"

	"ydrion/core/value"
)

// Keys are built of parts, whose bytes compare as the values do: what is absent before what is there, numbers
// before texts that are no numbers, texts by code points.
const (
	absent = iota
	null
	present
	unreadable
)

// Append adds a value to a key. Written is how it stands in the file: it counts if it is not of its field's type
// (known is false).
func Append(key []byte, v value.Value, known bool, written []byte) []byte {
	switch {
	case !known:
		return Text(append(key, unreadable), written)
	case v.Kind == value.Null:
		return append(key, null)
	case !v.Has():
		return append(key, absent)
	}
	key = append(key, present)
	switch v.Kind {
	case value.Number:
		return number(key, v.Number)
	case value.Bool:
		if v.Truth {
			return append(key, 1)
		}
		return append(key, 0)
	case value.Time:
		t := v.Time.Std()
		key = binary.BigEndian.AppendUint64(key, uint64(t.Unix())^1<<63)
		return binary.BigEndian.AppendUint32(key, uint32(t.Nanosecond()))
	}
	return Text(key, v.Bytes)
}

// Exactly adds a value to a key as it stands in the file, and that it does not.
func Exactly(key []byte, written []byte, there bool) []byte {
	if !there {
		return append(key, absent)
	}
	return Text(append(key, present), written)
}

// Text adds a text: it ends so that longer ones come behind it.
func Text(key, text []byte) []byte {
	for {
		i := bytes.IndexByte(text, 0)
		if i < 0 {
			return append(append(key, text...), 0, 1)
		}
		key = append(append(key, text[:i]...), 0, 255)
		text = text[i+1:]
	}
}

// Descending turns the order of what has been added since a length around.
func Descending(key []byte, from int) {
	for i := from; i < len(key); i++ {
		key[i] = ^key[i]
	}
}

// number adds a decimal: its sign, how many digits stand before its point, and its digits.
func number(key []byte, d value.Decimal) []byte {
	sign := d.Sign()
	key = append(key, byte(1+sign))
	if sign == 0 {
		return key
	}
	from := len(key)
	var buf, joined [40]byte
	whole, fraction, _ := bytes.Cut(bytes.TrimLeft(d.Append(buf[:0]), "+-"), []byte("."))
	whole = bytes.TrimLeft(whole, "0")
	digits, before := append(append(joined[:0], whole...), fraction...), len(whole)
	if before == 0 {
		trimmed := bytes.TrimLeft(digits, "0")
		before = len(trimmed) - len(digits)
		digits = trimmed
	}
	key = binary.BigEndian.AppendUint32(key, uint32(before+math.MaxInt32/2))
	key = append(append(key, bytes.TrimRight(digits, "0")...), 0)
	if sign < 0 {
		Descending(key, from)
	}
	return key
}
