package segments

import "ydrion/core/format"

// SetSize sets how large the batches of a reader are.
func SetSize(r format.Reader, size int) { r.(*Reader).Size = size }

// Came gives a function that takes a control number and tells whether it has come before.
func Came() func(string) bool { return new(numbers).add }

// ValidatePlainly is Validate with all segments taken apart. It gives how many could be proved.
func ValidatePlainly(r format.Reader, raw []byte, say func(format.Difference)) (good, all int) {
	own := r.(*Reader)
	m := own.apartWithin(&slab{}, format.AsRead, own.current(), nil, raw, false)
	if m.Structure != nil {
		m.Validate(say)
	}
	m = own.apartWithin(&slab{}, format.AsRead, own.current(), nil, raw, true)
	for i := range m.Segments {
		s := &m.Segments[i]
		if known := m.about(s.Name); known != nil {
			if all++; s.Values > 0 && m.proved(s, known) {
				good++
			}
		}
	}
	return good, all
}
