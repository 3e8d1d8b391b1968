package segments

import "ydrion/core/format"

// SetSize sets how large the batches of a reader are.
func SetSize(r format.Reader, size int) { r.(*Reader).size = size }
