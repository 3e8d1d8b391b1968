package files

import "testing"

func TestEnding(t *testing.T) {
	for kind, want := range map[string]string{"text/csv; charset=utf-8": ".csv", "Application/JSON": ".json", "application/fhir+json": ".json", "image/svg+xml": ".xml", "": "", "nonsense": "", "application/octet-stream": ""} {
		if got := Ending(kind); got != want {
			t.Errorf("%s: %q", kind, got)
		}
	}
}
