package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/service/jobs"
	"wraithology/service/live"
	"wraithology/service/markdown"
	"wraithology/service/notices"
	"wraithology/service/report"
	"wraithology/service/store"
)

// Limits of what is kept and listed.
const (
	mostKeptAnswer = 4 << 20 // bytes of the answer of an exhibit
	mostInReport   = 1000    // evidence, exhibits and comments of a report
)

// KeptInput names something that is kept on a case.
type KeptInput struct {
	CaseInput
	ID int64 `path:"id"`
}

// keptBody is the input of an operation on something that is kept on a case.
type keptBody[T any] struct {
	KeptInput
	Body T
}

func (a *server) keptRoutes(h huma.API, r chi.Router) {
	const exhibits, comments, theories = "/api/cases/{case}/exhibits", "/api/cases/{case}/comments", "/api/cases/{case}/theories"
	route(h, a, "GET", exhibits, "exhibits", "A case's exhibits, oldest first", a.exhibits)
	route(h, a, "POST", exhibits, "newExhibit", "Keep the answer to a question, as it is now", a.newExhibit, created)
	route(h, a, "GET", exhibits+"/{id}", "exhibit", "One exhibit", a.exhibit)
	route(h, a, "PATCH", exhibits+"/{id}", "noteExhibit", "Change the note of an exhibit", a.noteExhibit)
	route(h, a, "DELETE", exhibits+"/{id}", "deleteExhibit", "Delete an exhibit", a.deleteExhibit)
	route(h, a, "GET", comments, "comments", "A case's comments, oldest first", a.comments)
	route(h, a, "POST", comments, "newComment", "Say something about a case or a part of it", a.newComment, created)
	route(h, a, "PATCH", comments+"/{id}", "editComment", "Change the text of one's own comment", a.editComment)
	route(h, a, "DELETE", comments+"/{id}", "deleteComment", "Delete one's own comment", a.deleteComment)
	route(h, a, "GET", comments+"/{id}/versions", "commentVersions", "What a comment said before, oldest first", a.commentVersions)
	route(h, a, "GET", theories, "theories", "A case's theories", a.theories)
	route(h, a, "POST", theories, "newTheory", "Add a theory", a.newTheory, created)
	route(h, a, "PATCH", theories+"/{id}", "changeTheory", "Change a theory", a.changeTheory)
	route(h, a, "DELETE", theories+"/{id}", "deleteTheory", "Delete a theory", a.deleteTheory)
	route(h, a, "PUT", theories+"/{id}/exhibits/{exhibit}", "argue", "Put an exhibit for or against a theory", a.argue)
	route(h, a, "DELETE", theories+"/{id}/exhibits/{exhibit}", "unargue", "Take an exhibit from a theory", a.unargue)
	route(h, a, "GET", "/api/cases/{case}/handover", "handOver", "A note for the next shift, made from the theories, exhibits and comments", a.handOver)
	route(h, a, "GET", "/api/cases/{case}/activity", "activity", "What others did in the case since the person was here last", a.activity)
	route(h, a, "POST", "/api/cases/{case}/seen", "seeActivity", "The person has seen what changed, up to an entry", a.seeActivity)
	route(h, a, "GET", "/api/mentions", "mentions", "Comments that mention the person and were not seen yet", a.mentions)
	route(h, a, "POST", "/api/mentions/seen", "seeMentions", "The person has seen the mentions up to a comment", func(ctx context.Context, in *struct {
		Body api.Seen
	}) (*struct{}, error) {
		return nil, a.Store.SeeMentions(ctx, who(ctx).ID, in.Body.Upto)
	})
	a.stream(h, r, huma.Operation{OperationID: "watchCase", Method: "GET", Path: "/api/cases/{case}/events", Summary: "What happens in a case as server-sent events: entries of its record",
		Parameters: []*huma.Param{pathParam("case")},
		Responses:  map[string]*huma.Response{"200": {Description: "a stream of entries", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: "string"}}}}}}, a.watchCase)
	a.stream(h, r, huma.Operation{OperationID: "report", Method: "GET", Path: "/api/cases/{case}/report", Summary: "A report of the case",
		Parameters: []*huma.Param{pathParam("case"), {Name: "format", In: "query", Description: "markdown, html or pdf", Schema: &huma.Schema{Type: "string", Enum: []any{"markdown", "html", "pdf"}}}},
		Responses:  map[string]*huma.Response{"200": {Description: "the report", Content: map[string]*huma.MediaType{"text/markdown": {Schema: &huma.Schema{Type: "string"}}}}, "default": {Description: "error"}}}, a.report)
}

// exhibitOf converts an exhibit. An answer that was asked with other rules than those of the case is withheld until it has been asked again.
func (a *server) exhibitOf(c store.Case, x store.Exhibit) api.Exhibit {
	if a.maskOf(c).ID() != x.MaskedBy {
		x.Answer = `{"withheld":"it is being asked again with the rules for masking of the case"}`
	}
	text := report.Exhibit(x.Question, x.Request, x.Answer)
	return api.Exhibit{ID: x.Number, Evidence: x.Evidence.Name, Question: x.Question, Request: json.RawMessage(x.Request), Answer: json.RawMessage(x.Answer), Note: x.Note, By: x.Person.Name, Created: x.CreatedAt,
		Place: api.Place{Moment: event.Moment(x.Moment), Thread: event.ThreadID(x.Thread), Frame: x.Frame}, Markdown: text, HTML: markdown.HTML(text)}
}

func (a *server) exhibits(ctx context.Context, in *struct {
	CaseInput
	After  int64 `query:"after" minimum:"0" doc:"the last exhibit that is known"`
	Latest bool  `query:"latest" doc:"the latest ones, still oldest first"`
	Count  int   `query:"count" minimum:"1" maximum:"1000" default:"100"`
}) (*body[[]api.Exhibit], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	a.Reads.Add(who(ctx).ID, c.ID, "", "exhibits")
	list, err := a.Store.ExhibitsOf(ctx, c.ID, store.Page{After: in.After, Latest: in.Latest, Most: in.Count})
	return listed(list, func(x store.Exhibit) api.Exhibit { return a.exhibitOf(c, x) }, err)
}

func (a *server) exhibit(ctx context.Context, in *KeptInput) (*body[api.Exhibit], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	a.Reads.Add(who(ctx).ID, c.ID, "", fmt.Sprint("exhibit ", in.ID))
	x, err := a.Store.ExhibitByNumber(ctx, c.ID, in.ID)
	return &body[api.Exhibit]{a.exhibitOf(c, x)}, err
}

// newExhibit asks the question and keeps the answer.
func (a *server) newExhibit(ctx context.Context, in *caseBody[api.NewExhibit]) (*body[api.Exhibit], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	q, ok := ask.Named(in.Body.Question)
	if !ok {
		return nil, fault.InvalidRequest.New("for example values, stack, ask, origin, ledger or trace", "unknown question %q", in.Body.Question)
	}
	request := q.New()
	if len(in.Body.Request) > 0 {
		if err := ask.DecodeJSON(bytes.NewReader(in.Body.Request), request); err != nil {
			return nil, err
		}
	}
	s, _, e, err := a.subject(ctx, in.Case, in.Body.Evidence)
	if err != nil {
		return nil, err
	}
	place := ask.Place{Moment: event.NoMoment}
	if of := ask.PlaceIn(request); of != nil {
		place = *of
	}
	if place, err = place.Resolve(s.Recording); err != nil {
		return nil, err
	}
	if of := ask.PlaceIn(request); of != nil {
		*of = place // the exhibit stays at this place
	}
	asked := reflect.ValueOf(request).Elem().Interface()
	answer, err := q.Run(ctx, s, asked)
	if err != nil {
		return nil, err
	}
	x := store.Exhibit{CaseID: c.ID, EvidenceID: e.ID, Evidence: e, PersonID: who(ctx).ID, Person: who(ctx), Question: q.Name, Moment: int64(place.Moment), Thread: int64(place.Thread), Frame: place.Frame}
	x.MaskedBy, x.Note = a.maskOf(c).ID(), a.masked(c, in.Body.Note)
	if x.Request, err = jsonText(asked); err != nil {
		return nil, err
	}
	if x.Answer, err = jsonText(answer); err != nil {
		return nil, err
	}
	if len(x.Answer) > mostKeptAnswer {
		return nil, fault.TooLarge.New("ask for less: fewer levels, rows or frames", "the answer has %d bytes; an exhibit keeps %d", len(x.Answer), mostKeptAnswer)
	}
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		if err := s.AddExhibit(ctx, &x); err != nil {
			return "", err
		}
		return fmt.Sprintf("kept exhibit %d: %s of %s@%d", x.Number, x.Question, e.Name, x.Moment), nil
	})
	return &body[api.Exhibit]{a.exhibitOf(c, x)}, err
}

func jsonText(x any) (string, error) {
	text, err := json.Marshal(x)
	if err != nil {
		return "", fmt.Errorf("keep the answer: %w", err)
	}
	return string(text), nil
}

func (a *server) noteExhibit(ctx context.Context, in *keptBody[api.ExhibitNote]) (*body[api.Exhibit], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	x, err := a.Store.ExhibitByNumber(ctx, c.ID, in.ID)
	if err != nil {
		return nil, err
	}
	x.Note = a.masked(c, in.Body.Note)
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("changed the note of exhibit %d", x.Number), s.NoteExhibit(ctx, x.ID, x.Note)
	})
	return &body[api.Exhibit]{a.exhibitOf(c, x)}, err
}

func (a *server) deleteExhibit(ctx context.Context, in *KeptInput) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("deleted exhibit %d", in.ID), s.DeleteExhibit(ctx, c.ID, in.ID)
	})
}

// mentioned returns the members of a case that a text mentions: "@" and the name, which may have spaces in it. Where several names fit, the
// longest one is meant.
func mentioned(c store.Case, text string) (names []string, ids []int64) {
	for at := range text {
		before, _ := utf8.DecodeLastRuneInString(text[:at])
		if text[at] != '@' || isWord(before) {
			continue
		}
		best := store.Member{}
		for _, m := range c.Members {
			rest, ok := strings.CutPrefix(text[at+1:], m.Person.Name)
			if after, _ := utf8.DecodeRuneInString(rest); ok && !isWord(after) && len(m.Person.Name) > len(best.Person.Name) {
				best = m
			}
		}
		if name := best.Person.Name; name != "" && !slices.Contains(names, name) {
			names, ids = append(names, name), append(ids, best.PersonID)
		}
	}
	return names, ids
}

// mentionedOthers returns the members whom a comment mentions, without its author.
func mentionedOthers(c store.Case, x store.Comment) []int64 {
	_, ids := mentioned(c, x.Text)
	return slices.DeleteFunc(ids, func(id int64) bool { return id == x.PersonID })
}

func isWord(r rune) bool {
	return r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_')
}

func commentOf(c store.Case, x store.Comment) api.Comment {
	out := api.Comment{ID: x.Number, Text: x.Text, HTML: markdown.HTML(x.Text), Mentions: []string{}, By: x.Person.Name, Created: x.CreatedAt, Edited: x.EditedAt, Deleted: x.DeletedAt,
		Anchor: api.Anchor{Thread: event.ThreadID(x.Thread), Frame: x.Frame, Path: x.Path, File: x.File, Line: x.Line}}
	if names, _ := mentioned(c, x.Text); names != nil {
		out.Mentions = names
	}
	if x.Parent != nil {
		out.Parent = x.Parent.Number
	}
	if x.Evidence != nil {
		out.Anchor.Evidence = x.Evidence.Name
	}
	if x.Exhibit != nil {
		out.Anchor.Exhibit = x.Exhibit.Number
	}
	if x.Moment != nil {
		m := event.Moment(*x.Moment)
		out.Anchor.Moment = &m
	}
	if x.Until != nil {
		m := event.Moment(*x.Until)
		out.Anchor.Until = &m
	}
	return out
}

func (a *server) comments(ctx context.Context, in *struct {
	CaseInput
	Evidence string `query:"evidence" maxLength:"200" doc:"about this evidence only"`
	From     int64  `query:"from" minimum:"0" doc:"with to: about moments from this one"`
	To       int64  `query:"to" minimum:"0" doc:"about moments up to this one; 0 for all"`
	Text     string `query:"text" maxLength:"500" doc:"with all these words"`
	After    int64  `query:"after" minimum:"0" doc:"the last comment that is known"`
	Latest   bool   `query:"latest" doc:"the latest ones, still oldest first"`
	Count    int    `query:"count" minimum:"1" maximum:"1000" default:"100"`
}) (*body[[]api.Comment], error) {
	c, err := a.caseWithMembers(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	q := store.CommentQuery{Page: store.Page{After: in.After, Latest: in.Latest, Most: in.Count}, From: in.From, To: in.To, Text: in.Text}
	if in.Evidence != "" {
		e, err := a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
		if err != nil {
			return nil, err
		}
		q.Evidence = e.ID
	}
	list, err := a.Store.CommentsOf(ctx, c.ID, q)
	return listed(list, func(x store.Comment) api.Comment { return commentOf(c, x) }, err)
}

func (a *server) newComment(ctx context.Context, in *caseBody[api.NewComment]) (*body[api.Comment], error) {
	c, err := a.caseWithMembers(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	x, err := a.anchored(ctx, c, in.Body.Anchor)
	if err != nil {
		return nil, err
	}
	if in.Body.Parent != 0 {
		p, err := a.Store.CommentByNumber(ctx, c.ID, in.Body.Parent)
		if err != nil {
			return nil, err
		}
		x.ParentID, x.Parent = &p.ID, &p
	}
	x.CaseID, x.PersonID, x.Person, x.Text = c.ID, who(ctx).ID, who(ctx), a.masked(c, in.Body.Text)
	about := "the case"
	if x.Evidence != nil {
		about = x.Evidence.Name
	}
	err = a.addComment(ctx, c, &x, "said something about "+about, func(b *notices.Board, mentioned []int64) error { return b.Mention(ctx, c, x, mentioned) })
	return &body[api.Comment]{commentOf(c, x)}, err
}

// addComment adds a comment together with the notice of it, and its entry in the record. tell is called with whom it mentions.
func (a *server) addComment(ctx context.Context, c store.Case, x *store.Comment, entry string, tell func(b *notices.Board, mentioned []int64) error) error {
	ids := mentionedOthers(c, *x)
	return a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		if err := s.AddComment(ctx, x, ids); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: comment %d", entry, x.Number), tell(a.Board.In(s), ids)
	})
}

// anchored returns a comment about a place, which must exist.
func (a *server) anchored(ctx context.Context, c store.Case, at api.Anchor) (x store.Comment, err error) {
	x.Thread, x.Frame, x.Path, x.File, x.Line = int64(at.Thread), at.Frame, at.Path, at.File, at.Line
	if at.Exhibit != 0 {
		kept, err := a.Store.ExhibitByNumber(ctx, c.ID, at.Exhibit)
		if err != nil {
			return x, err
		}
		x.ExhibitID, x.Exhibit = &kept.ID, &kept
	}
	if at.Evidence == "" {
		if at.Moment != nil || at.Path != "" {
			return x, fault.InvalidRequest.New("name the evidence", "a moment or path without evidence")
		}
		return x, nil
	}
	r, _, e, err := a.recording(ctx, c.Name, at.Evidence)
	if err != nil {
		return x, err
	}
	x.EvidenceID, x.Evidence = &e.ID, &e
	for _, m := range []*event.Moment{at.Moment, at.Until} {
		if m == nil {
			continue
		}
		if _, err := r.ThreadOf(*m); err != nil {
			return x, err
		}
	}
	if at.Until != nil && (at.Moment == nil || *at.Until < *at.Moment) {
		return x, fault.InvalidRequest.New("give the first moment, and then the last", "a span must end after it begins")
	}
	x.Moment, x.Until = storedMoment(at.Moment), storedMoment(at.Until)
	return x, nil
}

// storedMoment returns a moment as records have it.
func storedMoment(m *event.Moment) *int64 {
	if m == nil {
		return nil
	}
	n := int64(*m)
	return &n
}

// ownComment returns a comment of the person, which is not deleted.
func (a *server) ownComment(ctx context.Context, in KeptInput) (c store.Case, x store.Comment, err error) {
	if c, err = a.caseWithMembers(ctx, in.Case); err != nil {
		return c, x, err
	}
	if x, err = a.Store.CommentByNumber(ctx, c.ID, in.ID); err != nil {
		return c, x, err
	}
	switch {
	case x.DeletedAt != nil:
		return c, x, fmt.Errorf("comment %d: %w: it is deleted", in.ID, fault.NotFound)
	case x.PersonID != who(ctx).ID:
		return c, x, fault.PermissionDenied.New("answer it instead", "permission denied: comment %d is by %s", in.ID, x.Person.Name)
	}
	return c, x, nil
}

func (a *server) editComment(ctx context.Context, in *keptBody[api.CommentText]) (*body[api.Comment], error) {
	c, x, err := a.ownComment(ctx, in.KeptInput)
	if err != nil {
		return nil, err
	}
	before := mentionedOthers(c, x)
	now := x
	now.Text = a.masked(c, in.Body.Text)
	ids := slices.DeleteFunc(mentionedOthers(c, now), func(id int64) bool { return slices.Contains(before, id) })
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		if err := s.EditComment(ctx, x, now.Text, ids); err != nil {
			return "", err
		}
		if x, err = s.CommentByNumber(ctx, c.ID, x.Number); err != nil {
			return "", err
		}
		return fmt.Sprintf("changed comment %d", x.Number), a.Board.In(s).Mention(ctx, c, x, ids)
	})
	return &body[api.Comment]{commentOf(c, x)}, err
}

func (a *server) deleteComment(ctx context.Context, in *KeptInput) (*struct{}, error) {
	c, x, err := a.ownComment(ctx, *in)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("deleted comment %d", x.Number), s.DeleteComment(ctx, x.ID)
	})
}

func (a *server) commentVersions(ctx context.Context, in *KeptInput) (*body[[]api.Version], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	x, err := a.Store.CommentByNumber(ctx, c.ID, in.ID)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.EditsOf(ctx, x.ID)
	return listed(list, func(e store.CommentEdit) api.Version { return api.Version{At: e.At, Text: e.Text} }, err)
}

func theoryOf(x store.Theory) api.Theory {
	supporting, opposing := x.Sides()
	return api.Theory{ID: x.Number, Text: x.Text, State: x.State, Note: x.Note, For: append([]int64{}, supporting...), Against: append([]int64{}, opposing...), By: x.Person.Name, Created: x.CreatedAt, Changed: x.ChangedAt}
}

func (a *server) theories(ctx context.Context, in *CaseInput) (*body[[]api.Theory], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.TheoriesOf(ctx, c.ID)
	return listed(list, theoryOf, err)
}

func (a *server) newTheory(ctx context.Context, in *caseBody[api.NewTheory]) (*body[api.Theory], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	x := store.Theory{CaseID: c.ID, PersonID: who(ctx).ID, Person: who(ctx), Text: a.masked(c, in.Body.Text), Note: a.masked(c, in.Body.Note), State: api.TheoryOpen}
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		if err := s.AddTheory(ctx, &x); err != nil {
			return "", err
		}
		return fmt.Sprintf("suspects: %s (theory %d)", x.Text, x.Number), nil
	})
	return &body[api.Theory]{theoryOf(x)}, err
}

// theoryFor returns a theory that the person may change.
func (a *server) theoryFor(ctx context.Context, in KeptInput) (store.Case, store.Theory, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return c, store.Theory{}, err
	}
	x, err := a.Store.TheoryByNumber(ctx, c.ID, in.ID)
	return c, x, err
}

func (a *server) changeTheory(ctx context.Context, in *keptBody[api.TheoryChange]) (*body[api.Theory], error) {
	c, x, err := a.theoryFor(ctx, in.KeptInput)
	if err != nil {
		return nil, err
	}
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		was := ""
		x, err = s.ChangeTheory(ctx, c.ID, x.Number, func(x *store.Theory) {
			was = x.State
			change(&x.Text, in.Body.Text)
			change(&x.State, in.Body.State)
			change(&x.Note, in.Body.Note)
			x.Text, x.Note = a.masked(c, x.Text), a.masked(c, x.Note)
		})
		if was != x.State {
			return fmt.Sprintf("theory %d is %s: %s", x.Number, x.State, x.Text), err
		}
		return fmt.Sprintf("changed theory %d: %s", x.Number, x.Text), err
	})
	return &body[api.Theory]{theoryOf(x)}, err
}

func (a *server) deleteTheory(ctx context.Context, in *KeptInput) (*struct{}, error) {
	c, x, err := a.theoryFor(ctx, *in)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("deleted theory %d: %s", x.Number, x.Text), s.DeleteTheory(ctx, c.ID, x.Number)
	})
}

// ArgueInput names an exhibit of a theory.
type ArgueInput struct {
	KeptInput
	Exhibit int64 `path:"exhibit"`
}

func (a *server) argue(ctx context.Context, in *struct {
	ArgueInput
	Body struct {
		Supports bool `json:"supports"`
	}
}) (*body[api.Theory], error) {
	c, x, err := a.theoryFor(ctx, in.KeptInput)
	if err != nil {
		return nil, err
	}
	kept, err := a.Store.ExhibitByNumber(ctx, c.ID, in.Exhibit)
	if err != nil {
		return nil, err
	}
	side := "against"
	if in.Body.Supports {
		side = "for"
	}
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		if err := s.Argue(ctx, store.TheoryExhibit{TheoryID: x.ID, ExhibitID: kept.ID, Supports: in.Body.Supports}); err != nil {
			return "", err
		}
		x, err = s.TheoryByNumber(ctx, c.ID, x.Number)
		return fmt.Sprintf("exhibit %d speaks %s theory %d", kept.Number, side, x.Number), err
	})
	return &body[api.Theory]{theoryOf(x)}, err
}

func (a *server) unargue(ctx context.Context, in *ArgueInput) (*struct{}, error) {
	c, x, err := a.theoryFor(ctx, in.KeptInput)
	if err != nil {
		return nil, err
	}
	kept, err := a.Store.ExhibitByNumber(ctx, c.ID, in.Exhibit)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("took exhibit %d from theory %d", in.Exhibit, x.Number), s.Unargue(ctx, x.ID, kept.ID)
	})
}

func (a *server) activity(ctx context.Context, in *struct {
	CaseInput
	After int64 `query:"after" minimum:"-1" default:"-1" doc:"the last entry that is known; -1 for what the person has not seen"`
	Count int   `query:"count" minimum:"1" maximum:"1000" default:"200"`
}) (*body[api.Activity], error) {
	c, me, err := a.caseAndPart(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	after := in.After
	if after < 0 {
		after = me.Seen
	}
	list, err := a.Store.ActivityOf(ctx, c.ID, who(ctx).ID, store.Page{After: after, Most: in.Count + 1})
	out := api.Activity{Entries: []api.ActivityEntry{}, Upto: after, More: len(list) > in.Count}
	for _, x := range list[:min(len(list), in.Count)] {
		out.Entries, out.Upto = append(out.Entries, api.ActivityEntry{ID: x.ID, At: x.At, By: x.By, What: x.What}), x.ID
	}
	return &body[api.Activity]{out}, err
}

func (a *server) seeActivity(ctx context.Context, in *caseBody[api.Seen]) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	return nil, a.Store.SeeActivity(ctx, c.ID, who(ctx).ID, in.Body.Upto)
}

func (a *server) mentions(ctx context.Context, _ *struct{}) (*body[[]api.Mention], error) {
	list, err := a.Store.MentionsOf(ctx, who(ctx).ID)
	return listed(list, func(x store.Mention) api.Mention {
		return api.Mention{ID: x.Comment.ID, Case: x.CaseName, Comment: commentOf(store.Case{}, x.Comment)}
	}, err)
}

// reported gathers what a report of a case is made from.
func (a *server) reported(ctx context.Context, name, address string) (out report.Case, err error) {
	c, err := a.caseWithMembers(ctx, name)
	if err != nil {
		return out, err
	}
	out = report.Case{Case: caseOf(c), Failures: map[string]string{}, Most: mostInReport, Address: address}
	list, err := a.evidenceInfos(ctx, c, store.ListPage{Most: mostInReport})
	if err != nil {
		return out, err
	}
	out.Evidence = list
	for _, e := range list {
		if e.Fingerprint != "" {
			out.Failures[e.Name] = a.failureStack(ctx, name, e.Name)
		}
	}
	exhibits, err := a.Store.ExhibitsOf(ctx, c.ID, store.Page{Most: mostInReport})
	if err != nil {
		return out, err
	}
	for _, x := range exhibits {
		out.Exhibits = append(out.Exhibits, a.exhibitOf(c, x))
	}
	theories, err := a.Store.TheoriesOf(ctx, c.ID)
	if err != nil {
		return out, err
	}
	for _, x := range theories {
		out.Theories = append(out.Theories, theoryOf(x))
	}
	comments, err := a.Store.CommentsOf(ctx, c.ID, store.CommentQuery{Page: store.Page{Latest: true, Most: mostInReport}})
	for _, x := range comments {
		out.Comments = append(out.Comments, commentOf(c, x))
	}
	return out, err
}

// failureStack returns the stack of the failure in evidence, as a report shows it.
func (a *server) failureStack(ctx context.Context, caseName, name string) string {
	s, _, _, err := a.subject(ctx, caseName, name)
	if err == nil {
		var stack ask.Stack
		if stack, err = ask.Run(ctx, s, ask.StackRequest{Place: ask.Place{Moment: event.NoMoment}, Frames: 30}); err == nil {
			return report.Stack(stack)
		}
	}
	return report.Code("not known: " + err.Error())
}

func (a *server) handOver(ctx context.Context, in *CaseInput) (*body[api.HandOver], error) {
	c, err := a.reported(ctx, in.Case, "")
	return &body[api.HandOver]{api.HandOver{Text: report.HandOver(c)}}, err
}

// report sends the report of a case.
func (a *server) report(w http.ResponseWriter, r *http.Request) {
	format := r.URL.Query().Get("format")
	of, err := a.caseFor(r.Context(), chi.URLParam(r, "case"))
	if err != nil {
		a.fail(w, r, err)
		return
	}
	c, err := a.reported(r.Context(), of.Name, a.address(r))
	if err == nil {
		err = a.note(r.Context(), of, "made a report")
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	now := time.Now()
	var content []byte
	var kind string
	switch format {
	case "", "markdown":
		content, kind = []byte(report.Markdown(c, now)), "text/markdown; charset=utf-8"
	case "html":
		content, kind = []byte(report.HTML(c, now)), "text/html; charset=utf-8"
	case "pdf":
		kind = "application/pdf"
		if content, err = report.PDF(r.Context(), report.HTML(c, now)); err != nil {
			a.fail(w, r, err)
			return
		}
	default:
		a.fail(w, r, fault.InvalidRequest.New("use markdown, html or pdf", "unknown format %q", format))
		return
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Length", strconv.Itoa(len(content)))
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox")
	_, _ = w.Write(content) // the connection may be gone
}

// caseBeat is the time between signs of life on a stream on which nothing happens.
const caseBeat = 15 * time.Second

// watchCase streams the entries of a case's record, after the one that the client received last, or from now on.
func (a *server) watchCase(w http.ResponseWriter, r *http.Request) {
	c, err := a.caseFor(r.Context(), chi.URLParam(r, "case"))
	if err != nil {
		a.fail(w, r, err)
		return
	}
	changed, stop := a.live.Watch(c.ID)
	defer stop()
	last, err := strconv.ParseInt(r.Header.Get("Last-Event-ID"), 10, 64)
	if err != nil || last < 0 {
		if last, err = a.Store.LastNote(r.Context(), c.ID); err != nil {
			a.fail(w, r, err)
			return
		}
	}
	send := eventStream(w)
	if send("", last, nil) != nil {
		return
	}
	beat := time.NewTicker(caseBeat)
	defer beat.Stop()
	for {
		list, err := a.live.After(r.Context(), c.ID, last)
		if err != nil {
			return // the client connects again
		}
		if len(list) > 0 {
			if may, err := a.live.May(r.Context(), c.ID, who(r.Context()).ID); err != nil || !may {
				return // the right was lost meanwhile
			}
		}
		for _, x := range list {
			last = x.ID
			if send("", last, x) != nil {
				return
			}
		}
		if len(list) > 0 {
			continue // there can be more
		}
		select {
		case <-r.Context().Done():
			return
		case <-a.Ending.Done():
			return
		case <-beat.C:
			if _, err := a.caseFor(r.Context(), c.Name); err != nil || send("", last, nil) != nil {
				return // the person may not look any more, or has gone
			}
		case <-changed:
		}
	}
}

// entriesAfter reads the entries of a case's record after one.
func (a *server) entriesAfter(ctx context.Context, caseID, after int64) ([]api.ActivityEntry, error) {
	list, err := a.Store.ActivityOf(ctx, caseID, 0, store.Page{After: after, Most: live.Most})
	var out []api.ActivityEntry
	for _, x := range list {
		out = append(out, api.ActivityEntry{ID: x.ID, At: x.At, By: x.By, What: x.What})
	}
	return out, err
}

// eventStream begins a stream of server-sent events (WHATWG HTML, section Server-sent events), and returns a function that sends
// an event with a name, an ID and an object as JSON; without an object it is a comment that keeps the connection open.
func eventStream(w http.ResponseWriter) func(name string, id int64, of any) error {
	w.Header().Set("Content-Type", "text/event-stream")
	stream := http.NewResponseController(w)
	return func(name string, id int64, of any) error {
		text := ": still here\n\n"
		if of != nil {
			data, isWritten := of.(json.RawMessage)
			if !isWritten {
				var err error
				if data, err = json.Marshal(of); err != nil {
					return fmt.Errorf("send an event: %w", err)
				}
			}
			text = fmt.Sprintf("id: %d\ndata: %s\n\n", id, data)
			if name != "" {
				text = "event: " + name + "\n" + text
			}
		}
		if _, err := fmt.Fprint(w, text); err != nil {
			return err
		}
		return stream.Flush()
	}
}

// address returns the address by which the client reached the service, for links.
func (a *server) address(r *http.Request) string {
	return a.Front.Scheme(r) + "://" + r.Host
}
