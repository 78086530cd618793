package httpapi

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/hooks"
	"wraithology/service/jobs"
	"wraithology/service/notices"
	"wraithology/service/store"
)

// mostHooks limits the webhooks of a case.
const mostHooks = 20

func (a *server) noticeRoutes(h huma.API) {
	const told, hooks = "/api/cases/{case}/notices", "/api/cases/{case}/hooks"
	route(h, a, "GET", told, "notices", "What the person was told about a case, oldest first, and how", a.notices)
	route(h, a, "PUT", told, "switchNotices", "Switch mails about a case on or off for the person", a.switchNotices)
	route(h, a, "GET", hooks, "hooks", "A case's webhooks", a.hooks)
	route(h, a, "POST", hooks, "newHook", "Add a webhook; its secret is in this answer only", a.newHook, created)
	route(h, a, "DELETE", hooks+"/{id}", "deleteHook", "Delete a webhook", a.deleteHook)
	route(h, a, "POST", hooks+"/{id}/trial", "tryHook", "Send a trial to a webhook now", a.tryHook)
	schema := h.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[api.Told](), true, "Told")
	h.OpenAPI().Webhooks = map[string]*huma.PathItem{"notices": {Post: &huma.Operation{OperationID: "told", Summary: "What a webhook of a case receives, signed as Standard Webhooks 1.0 says",
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: schema}}},
		Responses:   map[string]*huma.Response{"2XX": {Description: "the receiver has taken it"}, "410": {Description: "the receiver wants nothing any more"}, "default": {Description: "it is sent again"}}}}}
	route(h, a, "POST", "/api/cases/{case}/handover", "sendHandOver", "Post a hand-over note as a comment, and tell members", a.sendHandOver, created)
}

func (a *server) notices(ctx context.Context, in *struct {
	CaseInput
	After  int64 `query:"after" minimum:"0" doc:"the last notice that is known"`
	Latest bool  `query:"latest" doc:"the latest ones, still oldest first"`
	Count  int   `query:"count" minimum:"1" maximum:"1000" default:"100"`
}) (*body[api.Notices], error) {
	c, me, err := a.caseAndPart(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.NoticesOf(ctx, c.ID, who(ctx).ID, store.Page{After: in.After, Latest: in.Latest, Most: in.Count})
	out := api.Notices{CanMail: a.Board.CanMail(), Mail: who(ctx).Mail, IsOn: me.Mailed, List: []api.Notice{}}
	for _, n := range list {
		out.List = append(out.List, a.Board.Notice(n, c.Name))
	}
	return &body[api.Notices]{out}, err
}

func (a *server) switchNotices(ctx context.Context, in *caseBody[api.NoticesSwitch]) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	return nil, a.Store.MailMember(ctx, c.ID, who(ctx).ID, in.Body.IsOn)
}

func hookOf(x store.Hook, last store.Delivery) api.Hook {
	return api.Hook{ID: x.ID, URL: x.URL, Kinds: x.Kinds, By: x.Person.Name, Created: x.CreatedAt, Ended: x.Ended, Sent: last.SentAt, Failed: failed(last), Trouble: last.Trouble}
}

// failed is the number of attempts of a delivery that failed.
func failed(d store.Delivery) int {
	if d.SentAt != nil {
		return d.Attempts - 1
	}
	return d.Attempts
}

func (a *server) hooks(ctx context.Context, in *CaseInput) (*body[[]api.Hook], error) {
	c, me, err := a.caseAndPart(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	last, err := a.Store.LastDeliveries(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.HooksOf(ctx, c.ID)
	return listed(list, func(x store.Hook) api.Hook {
		out := hookOf(x, last[x.ID])
		if fully(ctx, c, me) != nil {
			out.URL = hostOf(x.URL)
		}
		return out
	}, err)
}

func (a *server) newHook(ctx context.Context, in *caseBody[api.NewHook]) (*body[api.Hook], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	to, err := a.Board.Hooks().URL(in.Body.URL)
	if err != nil {
		return nil, err
	}
	have, err := a.Store.HooksOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if len(have) >= mostHooks {
		return nil, fault.InvalidRequest.New("delete one first", "the case has %d webhooks, the most that it may have", len(have))
	}
	x := store.Hook{CaseID: c.ID, PersonID: who(ctx).ID, Person: who(ctx), URL: to, Secret: hooks.NewSecret(), Kinds: in.Body.Kinds}
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		if err := s.AddHook(ctx, &x); err != nil {
			return "", err
		}
		return fmt.Sprintf("added webhook %d to %s", x.ID, hostOf(x.URL)), nil
	})
	out := hookOf(x, store.Delivery{})
	out.Secret = x.Secret
	return &body[api.Hook]{out}, err
}

// hostOf returns the host of an address: its path may contain a secret of the receiver.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "an address"
	}
	return u.Host
}

func (a *server) deleteHook(ctx context.Context, in *KeptInput) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("deleted webhook %d", in.ID), s.DeleteHook(ctx, c.ID, in.ID)
	})
}

func (a *server) tryHook(ctx context.Context, in *KeptInput) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	x, err := a.Store.HookByID(ctx, c.ID, in.ID)
	if err != nil {
		return nil, err
	}
	if err := a.Board.Try(ctx, x, c, who(ctx), strings.ToLower(rand.Text())); err != nil {
		if errors.Is(err, context.Canceled) {
			return nil, err
		}
		return nil, fault.NotDelivered.New("", "%w", err)
	}
	return nil, nil
}

func (a *server) sendHandOver(ctx context.Context, in *caseBody[api.HandingOver]) (*body[api.Comment], error) {
	c, err := a.caseWithMembers(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	var to []int64
	names := map[string]bool{}
	for _, name := range in.Body.To {
		names[name] = true
	}
	for _, m := range c.Members {
		if m.PersonID != who(ctx).ID && (len(names) == 0 || names[m.Person.Name]) {
			to = append(to, m.PersonID)
		}
		delete(names, m.Person.Name)
	}
	for name := range names {
		return nil, fault.InvalidRequest.New("add the person to the case first", "%s is no member of the case", name)
	}
	x := store.Comment{CaseID: c.ID, PersonID: who(ctx).ID, Person: who(ctx), Text: a.masked(c, in.Body.Text)}
	err = a.addComment(ctx, c, &x, "handed the case over", func(b *notices.Board, _ []int64) error { return b.HandOver(ctx, c, x, to) })
	return &body[api.Comment]{commentOf(c, x)}, err
}
