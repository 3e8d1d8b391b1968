package files

import (
	"mime"
	"strings"
)

// endings are those of files whose media types (RFC 6838) are met among messages.
var endings = map[string]string{
	"text/csv": ".csv", "application/json": ".json", "application/edi-x12": ".x12", "application/edifact": ".edi", "x-application/hl7-v2+er7": ".hl7",
	"text/plain": ".txt", "application/xml": ".xml", "text/xml": ".xml", "application/pdf": ".pdf", "text/html": ".html",
}

// Ending is how the name of a file of a media type ends; empty: that is not known.
func Ending(mediaType string) string {
	kind, _, _ := mime.ParseMediaType(mediaType) //nolint: then it has none
	kind = strings.ToLower(kind)
	switch {
	case strings.HasSuffix(kind, "+json"):
		return ".json"
	case strings.HasSuffix(kind, "+xml"):
		return ".xml"
	}
	return endings[kind]
}
