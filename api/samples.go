package api

import (
	"context"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ydrion/core/formats"
	"ydrion/service"
)

// sent is a file that comes as the body, which is read as it comes.
type sent struct {
	Name string `query:"name" doc:"the file's name, for places"`
	body io.Reader
}

// sample is a file that is looked at.
type sample struct {
	Name        string `query:"name" doc:"the file's name, for places"`
	Member      string `query:"member" doc:"of a zip archive with several"`
	Description string `query:"description" doc:"the number of a description that messages are checked against"`
	body        io.Reader
}

// Resolve keeps the body for the operation.
func (s *sample) Resolve(ctx huma.Context) []error {
	s.body = ctx.BodyReader()
	return nil
}

// Resolve keeps the body for the operation.
func (s *sent) Resolve(ctx huma.Context) []error {
	s.body = ctx.BodyReader()
	return nil
}

// Found is where something was found.
type Found struct {
	Hit *formats.Hit `json:"hit" doc:"null if it stands nowhere from there on"`
}

// RowOf is the line in which a byte stands.
type RowOf struct {
	Row int64 `json:"row"`
}

// samples registers looking at files that no route has been made for.
func samples(api huma.API, s *service.Service) {
	binary := map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	huma.Register(api, huma.Operation{OperationID: "look", Method: http.MethodPost, Path: "/api/samples", Summary: "Look at a file: format, records, fields, findings; its text is kept for half an hour after it was used last",
		RequestBody: &huma.RequestBody{Required: true, Content: binary}}, func(ctx context.Context, in *sample) (*body[*service.SampleView], error) {
		return answer(s.Sample(ctx, in.body, in.Name, in.Member, in.Description))
	})
	huma.Register(api, huma.Operation{OperationID: "describe", Method: http.MethodPost, Path: "/api/descriptions", Summary: "Read a guideline (SEF) or a description in our own format, that samples can be checked against; some are kept",
		RequestBody: &huma.RequestBody{Required: true, Content: binary}}, func(_ context.Context, in *sent) (*body[*service.DescriptionView], error) {
		return answer(s.Describe(in.body, in.Name))
	})
	get := func(id, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: http.MethodGet, Path: "/api/samples/{id}" + path, Summary: summary}
	}
	huma.Register(api, get("sample-rows", "/rows", "Lines of a sample's text"), func(_ context.Context, in *struct {
		ID   string `path:"id"`
		From int64  `query:"from" minimum:"0" doc:"counted from 0"`
		Rows int64  `query:"rows" minimum:"1" maximum:"1000" default:"200"`
	}) (*body[Page[formats.Row]], error) {
		rows, err := s.SampleRows(in.ID, in.From, in.Rows)
		return answer(Page[formats.Row]{Items: rows}, err)
	})
	huma.Register(api, get("sample-records", "/records", "Records of a sample, with their parts and what the standard says of them"), func(ctx context.Context, in *struct {
		ID      string `path:"id"`
		At      string `query:"at" doc:"a record's number, \"byte 88112\", or a position such as PID-5" default:"1"`
		From    int64  `query:"from" minimum:"0" doc:"the first record in which the position is looked for"`
		Records int    `query:"records" minimum:"1" maximum:"200" default:"1"`
	}) (*body[*service.RecordsView], error) {
		request, err := formats.At(in.At)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		request.From, request.Records = max(request.From, in.From), in.Records
		return answer(s.SampleRecords(ctx, in.ID, request))
	})
	huma.Register(api, get("sample-find", "/find", "The next place in a sample at which a text stands"), func(ctx context.Context, in *struct {
		ID        string `path:"id"`
		Text      string `query:"text" minLength:"1" maxLength:"1000" doc:"ASCII letters are not told apart by their case"`
		From      int64  `query:"from" minimum:"0" doc:"byte of the text"`
		Backwards bool   `query:"backwards"`
	}) (*body[Found], error) {
		hit, err := s.SampleFind(ctx, in.ID, in.Text, in.From, in.Backwards)
		return answer(Found{hit}, err)
	})
	huma.Register(api, get("sample-row", "/row", "The line in which a byte of a sample stands"), func(_ context.Context, in *struct {
		ID   string `path:"id"`
		Byte int64  `query:"byte" minimum:"0"`
	}) (*body[RowOf], error) {
		row, err := s.SampleRow(in.ID, in.Byte)
		return answer(RowOf{row}, err)
	})
	huma.Register(api, huma.Operation{OperationID: "forget-sample", Method: http.MethodDelete, Path: "/api/samples/{id}", Summary: "Forget a sample", DefaultStatus: http.StatusNoContent}, func(_ context.Context, in *struct {
		ID string `path:"id"`
	}) (*struct{}, error) {
		s.ForgetSample(in.ID)
		return nil, nil
	})
}
