package api

import (
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"ydrion/service"
)

// described adds to the document what is served without it: bodies that are files, and the
// stream of events.
func described(api huma.API) {
	schema := func(kind string) *huma.Schema { return &huma.Schema{Type: kind} }
	one := 1.0
	most := 200.0
	in := func(where, name, doc string, s *huma.Schema) *huma.Param {
		return &huma.Param{Name: name, In: where, Description: doc, Required: where == "path" || name == "name", Schema: s}
	}
	file := &huma.Schema{Type: huma.TypeString, Format: "binary"}
	content := func(kind string, s *huma.Schema) map[string]*huma.MediaType {
		return map[string]*huma.MediaType{kind: {Schema: s}}
	}
	problem := &huma.Response{Description: "Error", Content: content("application/problem+json", api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[huma.ErrorModel](), true, "ErrorModel"))}
	answers := func(kind, doc string, s *huma.Schema) map[string]*huma.Response {
		return map[string]*huma.Response{"200": {Description: doc, Content: content(kind, s)}, "default": problem}
	}
	registry := api.OpenAPI().Components.Schemas
	for _, op := range []*huma.Operation{
		{
			OperationID: "hand", Method: http.MethodPost, Path: "/api/routes/{name}/files", Summary: "Give a file to a route, as if it had come into its inbox; or try it: then nothing is delivered or recorded",
			Parameters: []*huma.Param{
				in("path", "name", "the route", schema(huma.TypeString)), in("query", "name", "the file's name", schema(huma.TypeString)),
				in("query", "explain", "of a trial: say what each line of the map did, of the first 20 records", schema(huma.TypeBoolean)),
				in("query", "trial", "only try it; false if left out", schema(huma.TypeBoolean)), in("query", "rejected", "of a trial: show rejected records only", schema(huma.TypeBoolean)),
				in("query", "warned", "of a trial: show only records about which there is a warning; with rejected, both", schema(huma.TypeBoolean)),
				in("query", "by", "who gives it; it is kept", schema(huma.TypeString)), in("query", "because", "why; it is kept", schema(huma.TypeString)),
				in("query", "limit", "of a trial: how many records to show; 20 if left out", &huma.Schema{Type: huma.TypeInteger, Minimum: &one, Maximum: &most}),
			},
			RequestBody: &huma.RequestBody{Description: "the file; at most 64 MiB for a trial", Required: true, Content: content("application/octet-stream", file)},
			Responses: answers("application/json", "the pickup's number, or the trial", &huma.Schema{OneOf: []*huma.Schema{
				registry.Schema(reflect.TypeFor[Handed](), true, "Handed"), registry.Schema(reflect.TypeFor[service.Trial](), true, "Trial"),
			}}),
		},
		{
			OperationID: "original", Method: http.MethodGet, Path: "/api/pickups/{id}/original", Summary: "The file as it arrived",
			Parameters: []*huma.Param{in("path", "id", "the pickup", schema(huma.TypeInteger))}, Responses: answers("application/octet-stream", "the file", file),
		},
		{
			OperationID: "events", Method: http.MethodGet, Path: "/api/events", Summary: "What happens, as it happens, as server-sent events; an event missed says that there was more",
			Parameters: []*huma.Param{in("header", "Last-Event-ID", "id of the last event that came: go on behind it. The last 1024 are kept; if it is not among them, an event missed comes first", schema(huma.TypeString))},
			Responses:  answers("text/event-stream", "a stream without an end; the data of each event is JSON", schema(huma.TypeString)),
		},
		{
			OperationID: "backup", Method: http.MethodGet, Path: "/api/backup", Summary: "Records and originals as they stand, as an archive that restore takes",
			Responses: answers("application/x-tar", "the archive", file),
		},
	} {
		api.OpenAPI().AddOperation(op)
	}
}
