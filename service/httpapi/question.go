package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"reflect"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/service/store"
)

const evidencePath = "/api/cases/{case}/evidence/{evidence}/"

// maxQuestionLimit is the longest time limit of a question that can be asked for.
const maxQuestionLimit = time.Minute

// maxQuestion limits the body of a question, in bytes.
const maxQuestion = 1 << 20

// questionRoutes adds a route for each question in core/ask.
func (a *server) questionRoutes(h huma.API) {
	for _, q := range ask.Questions() {
		a.questionRoute(h, q)
	}
}

func (a *server) questionRoute(h huma.API, q ask.Question) {
	schemas := h.OpenAPI().Components.Schemas
	op := &huma.Operation{OperationID: q.Name, Method: http.MethodGet, Path: evidencePath + q.Name, Summary: q.Summary,
		Parameters: []*huma.Param{pathParam("case"), pathParam("evidence")},
		Responses: map[string]*huma.Response{
			"200":     {Description: "OK", Content: map[string]*huma.MediaType{"application/json": {Schema: schemas.Schema(q.Answer, true, "")}}},
			"default": {Description: "error", Content: map[string]*huma.MediaType{"application/problem+json": {Schema: schemas.Schema(reflect.TypeFor[api.Problem](), true, "")}}},
		}}
	within := &huma.Param{Name: "within", In: "query", Description: "time within which the question must end, as 30s; at most " + maxQuestionLimit.String(), Schema: &huma.Schema{Type: "string"}}
	if q.Nested() {
		op.Method = http.MethodPost
		op.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: schemas.Schema(q.Request, true, "")}}}
	} else {
		for _, f := range ask.Fields(q.Request) {
			field := reflect.StructField{Name: "F", Type: f.Type, Tag: f.Tag}
			op.Parameters = append(op.Parameters, &huma.Param{Name: f.Name, In: "query", Description: f.Doc, Required: f.Tag.Get("required") == "true", Explode: explode(f.Type), Schema: huma.SchemaFromField(schemas, field, "")})
		}
	}
	op.Parameters = append(op.Parameters, within, &huma.Param{Name: "unmask", In: "query", Description: "true to see what is masked, which needs the right, and is recorded", Schema: &huma.Schema{Type: "boolean"}})
	h.OpenAPI().AddOperation(op)
	h.Adapter().Handle(op, h.Middlewares().Handler(func(ctx huma.Context) {
		answer, err := a.question(ctx, q)
		if err != nil {
			a.write(ctx, err)
			return
		}
		ctx.SetHeader("Content-Type", "application/json")
		_ = json.NewEncoder(ctx.BodyWriter()).Encode(answer) // the connection may be gone
	}))
}

func explode(t reflect.Type) *bool {
	if t.Kind() != reflect.Slice {
		return nil
	}
	yes := true
	return &yes
}

// question answers a request for a question.
func (a *server) question(ctx huma.Context, q ask.Question) (any, error) {
	address := ctx.URL()
	values := address.Query()
	limit := time.Duration(0) // that of the question
	if text := values.Get("within"); text != "" {
		var err error
		if limit, err = time.ParseDuration(text); err != nil || limit <= 0 || limit > maxQuestionLimit {
			return nil, fault.InvalidRequest.New("", "invalid within %q: use a duration up to %s, as 30s", text, maxQuestionLimit)
		}
	}
	values.Del("within")
	in := ctx.Context()
	if text := values.Get("unmask"); text != "" {
		unmasks, err := strconv.ParseBool(text)
		if err != nil {
			return nil, fault.InvalidRequest.New("use true or false", "invalid unmask %q", text)
		}
		if unmasks {
			in = asUnmasked(in)
		}
	}
	values.Del("unmask")
	request := q.New()
	if err := ask.Decode(values, request); err != nil {
		return nil, err
	}
	if q.Nested() {
		if err := ask.DecodeJSON(io.LimitReader(ctx.BodyReader(), maxQuestion), request); err != nil {
			return nil, err
		}
	}
	s, c, e, err := a.subject(in, ctx.Param("case"), ctx.Param("evidence"))
	if err != nil {
		return nil, err
	}
	s.Limit = limit
	if does(in).unmasks { // before anything is shown
		if err := a.note(in, c, "unmasked the answer to %s of %s", q.Name, e.Name); err != nil {
			return nil, err
		}
	}
	answer, err := q.Run(in, s, reflect.ValueOf(request).Elem().Interface())
	if errors.Is(err, fault.Damaged) {
		a.Recordings.Drop(s.Recording)
	}
	if err == nil && !does(in).unmasks {
		a.Reads.Add(who(in).ID, e.CaseID, e.Name, q.Name)
	}
	return answer, err
}

// subject returns evidence that the person can read, with the rest of its case, and the records of both.
func (a *server) subject(ctx context.Context, caseName, name string) (ask.Subject, store.Case, store.Evidence, error) {
	r, c, e, err := a.recording(ctx, caseName, name)
	if err != nil {
		return ask.Subject{}, c, e, err
	}
	return ask.Subject{
		Recording: r, Offset: time.Duration(e.ClockOffsetNs),
		Others: func(ctx context.Context) ([]ask.Other, error) { return a.Recordings.Others(ctx, e, a.maskFor(ctx, c)) },
		Stops:  func(ctx context.Context) ([]ask.Stop, error) { return a.stops(ctx, e, r) },
	}, c, e, nil
}

// stops are the enabled checkpoints of a case at which replay halts. Checkpoints that do not fit
// this recording are skipped.
func (a *server) stops(ctx context.Context, own store.Evidence, r replay.Recording) ([]ask.Stop, error) {
	list, err := a.Store.CheckpointsOf(ctx, own.CaseID, who(ctx).ID)
	if err != nil {
		return nil, err
	}
	var stops []ask.Stop
	for _, x := range list {
		if !x.Enabled || x.Listing || x.Evidence != "" && x.Evidence != own.Name {
			continue
		}
		point, err := x.In(r, x.From())
		if err != nil {
			continue
		}
		stops = append(stops, ask.Stop{Name: "checkpoint " + strconv.FormatInt(x.ID, 10), Checkpoint: point})
	}
	return stops, nil
}
