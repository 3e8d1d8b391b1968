package segments

import "ydrion/core/format"

// SetSize sets how large the batches of a reader are.
func SetSize(r format.Reader, size int) { r.(*Reader).Size = size }

// Came gives a function that takes a control number and tells whether it has come before.
func Came() func(string) bool { return new(numbers).add }
