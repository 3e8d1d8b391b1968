package text

// Escapes is a table of the characters that are structure in a target and of
// what stands for each in data.
type Escapes struct {
	special [256]bool
	with    [256]string
}

// NewEscapes makes a table. A CR LF in data is written as one line break: the
// replacement of LF.
func NewEscapes(with map[byte]string) *Escapes {
	e := &Escapes{}
	for c, s := range with {
		e.special[c], e.with[c] = true, s
	}
	return e
}

// Append writes a value with every special character replaced.
func (e *Escapes) Append(to, value []byte) []byte {
	for i, c := range value {
		if e.special[c] {
			return e.replace(append(to, value[:i]...), value[i:])
		}
	}
	return append(to, value...)
}

func (e *Escapes) replace(to, value []byte) []byte {
	from := 0
	for i, c := range value {
		if !e.special[c] {
			continue
		}
		to = append(to, value[from:i]...)
		from = i + 1
		if c == '\r' && from < len(value) && value[from] == '\n' {
			continue
		}
		to = append(to, e.with[c]...)
	}
	return append(to, value[from:]...)
}

// Clean tells whether a value can be copied as it is.
func (e *Escapes) Clean(value []byte) bool {
	for _, c := range value {
		if e.special[c] {
			return false
		}
	}
	return true
}
