// Package sittings tracks who is in which sitting and notifies everybody in it of changes. The place of a sitting, its lead and
// what happened in it are in the database; who is present is known to this process only.
package sittings

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"wraithology/api"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/service/live"
	"wraithology/service/store"
)

// Hub holds the sittings that somebody is in.
type Hub struct {
	store   *store.Store
	started time.Time
	mu      sync.Mutex
	rooms   map[int64]*room
}

// room is who is in a sitting. People who have gone stay in it until the sitting is described next.
type room struct {
	since    time.Time // since when this process knows of it
	people   map[string]*attendee
	watchers map[chan struct{}]string // whom each watcher belongs to
	changes  uint64                   // that were announced
	steps    *live.Tail[api.SittingStep]
	state    live.Shared[json.RawMessage] // api.Sitting
	may      live.Shared[map[int64]bool]  // who may look
}

type attendee struct {
	id       int64
	mode     string
	place    api.Place
	pointing *api.Pointing
	asked    time.Time // for the lead; zero if not
	mayLead  bool
	since    time.Time
	seen     time.Time
}

const (
	// lingers is how long somebody without a watcher counts as present, and how long a lead who has disappeared stays lead.
	lingers = 30 * time.Second
	// reload is how long somebody whose last watcher has ended counts as present: a page that is loaded again must not look
	// like leaving.
	reload = 2 * time.Second
)

// New returns the sittings of a store.
func New(s *store.Store) *Hub { return &Hub{store: s, started: time.Now(), rooms: map[int64]*room{}} }

func (h *Hub) room(id int64) *room {
	r := h.rooms[id]
	if r == nil {
		r = &room{since: h.started, people: map[string]*attendee{}, watchers: map[chan struct{}]string{}, changes: 1}
		r.steps = &live.Tail[api.SittingStep]{ID: func(s api.SittingStep) int64 { return s.ID }, Read: func(ctx context.Context, after int64) ([]api.SittingStep, error) { return h.stepsAfter(ctx, id, after) }}
		h.rooms[id] = r
	}
	return r
}

// stepsAfter reads the steps of a sitting after one.
func (h *Hub) stepsAfter(ctx context.Context, id, after int64) (out []api.SittingStep, err error) {
	list, err := h.store.StepsOf(ctx, id, store.Page{After: after, Most: live.Most})
	for _, s := range list {
		out = append(out, StepOf(s))
	}
	return out, err
}

func (r *room) changed() {
	r.changes++
	for c := range r.watchers {
		select {
		case c <- struct{}{}:
		default: // it has a change to look at already
		}
	}
}

// goneSince returns since when a person has not been present, or the zero time if the person is.
func (r *room) goneSince(name string) time.Time {
	p := r.people[name]
	if p == nil {
		return r.since // may come back after a restart of the service
	}
	for _, who := range r.watchers {
		if who == name {
			return time.Time{}
		}
	}
	if until := p.seen.Add(lingers); time.Now().After(until) {
		return until
	}
	return time.Time{}
}

func (r *room) present(name string) bool { return r.goneSince(name).IsZero() }

// next returns who gets the lead when the lead has gone: who has asked for it longest, then who has followed longest.
func (r *room) next() string {
	best := ""
	for name, p := range r.people {
		if !p.mayLead || p.mode == api.ModeRoam && p.asked.IsZero() || !r.present(name) {
			continue
		}
		if best == "" || compare(p, r.people[best]) < 0 {
			best = name
		}
	}
	return best
}

func compare(a, b *attendee) int {
	if a.asked.IsZero() != b.asked.IsZero() {
		if a.asked.IsZero() {
			return 1
		}
		return -1
	}
	return cmp.Or(a.asked.Compare(b.asked), a.since.Compare(b.since))
}

// Join adds a person to a sitting. Without a mode, a person who can lead does so if nobody else leads, or if the person led
// before; all others follow.
func (h *Hub) Join(ctx context.Context, x store.Sitting, who store.Person, mode string, mayLead bool) (api.Sitting, error) {
	h.mu.Lock()
	r := h.room(x.ID)
	now := time.Now()
	p := r.people[who.Name]
	isNew := p == nil || !r.present(who.Name)
	if isNew {
		p = &attendee{id: who.ID, mode: api.ModeFollow, place: placeOf(x), since: now}
		r.people[who.Name] = p
	}
	p.seen, p.mayLead = now, mayLead
	leads := isLed(x, who)
	if mode == "" {
		switch {
		case leads, mayLead && !hasLead(r, x):
			mode = api.ModeLead
		case isNew, p.mode == api.ModeLead:
			mode = api.ModeFollow
		default:
			mode = p.mode
		}
	}
	p.mode = mode
	h.mu.Unlock()
	var err error
	if x, err = h.settle(ctx, x, who, mode, leads); err != nil {
		return api.Sitting{}, err
	}
	if isNew {
		if err := h.store.AddStep(ctx, step(x, who, api.StepJoin, "")); err != nil {
			return api.Sitting{}, err
		}
	}
	h.announce(x.ID)
	return h.Describe(x), nil
}

// isLed reports whether a person leads a sitting.
func isLed(x store.Sitting, by store.Person) bool { return x.LeaderID != nil && *x.LeaderID == by.ID }

// hasLead reports whether a sitting has a lead who is present, or has not been away for long.
func hasLead(r *room, x store.Sitting) bool {
	if x.Leader == nil {
		return false
	}
	gone := r.goneSince(x.Leader.Name)
	return gone.IsZero() || time.Since(gone) < lingers
}

// settle makes a person the lead, or no longer the lead, if the mode says so.
func (h *Hub) settle(ctx context.Context, x store.Sitting, who store.Person, mode string, leads bool) (store.Sitting, error) {
	switch {
	case mode == api.ModeLead && !leads:
		return h.handOver(ctx, x, who, &who, "took the lead")
	case mode != api.ModeLead && leads:
		return h.handOver(ctx, x, who, nil, "gave up the lead")
	}
	return x, nil
}

// handOver gives the lead to a person, or to nobody. By is who did it.
func (h *Hub) handOver(ctx context.Context, x store.Sitting, by store.Person, to *store.Person, text string) (store.Sitting, error) {
	var id *int64
	if to != nil {
		id = &to.ID
	}
	if err := h.store.LeadSitting(ctx, x.ID, id, step(x, by, api.StepLead, text)); err != nil {
		return x, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	r := h.room(x.ID)
	for name, p := range r.people {
		switch {
		case to != nil && name == to.Name:
			p.mode, p.asked = api.ModeLead, time.Time{}
		case p.mode == api.ModeLead:
			p.mode = api.ModeFollow
		}
	}
	x.LeaderID, x.Leader = id, to
	return x, nil
}

// Change moves a person, changes the mode, what the person points at, or what is watched. A lead moves the sitting; a follower
// who moves roams from then on.
func (h *Hub) Change(ctx context.Context, x store.Sitting, who store.Person, c api.SittingChange) (api.Sitting, error) {
	h.mu.Lock()
	r := h.room(x.ID)
	p := r.people[who.Name]
	if p == nil {
		h.mu.Unlock()
		return api.Sitting{}, fault.NotInSitting
	}
	p.seen = time.Now()
	leads := isLed(x, who)
	target := r.people[c.HandTo]
	canLead := target != nil && target != p && target.mayLead && r.present(c.HandTo)
	mode := p.mode
	switch {
	case c.Mode != "":
		mode = c.Mode
	case c.Place != nil && p.mode == api.ModeFollow:
		mode = api.ModeRoam
	}
	h.mu.Unlock()

	var err error
	switch {
	case c.HandTo != "" && !leads:
		return api.Sitting{}, fault.NotLeading
	case c.HandTo != "" && !canLead:
		return api.Sitting{}, fault.InvalidRequest.New("name somebody else who is here and may lead", "cannot hand the lead to %s", c.HandTo)
	case c.HandTo != "":
		x, err = h.handOver(ctx, x, who, &store.Person{ID: target.id, Name: c.HandTo}, "handed the lead to "+c.HandTo)
		mode = api.ModeFollow
	default:
		x, err = h.settle(ctx, x, who, mode, leads)
	}
	if err != nil {
		return api.Sitting{}, err
	}
	if c.Place != nil && mode == api.ModeLead {
		s := step(x, who, api.StepMove, "")
		s.Moment, s.Thread, s.Frame = int64(c.Place.Moment), int64(c.Place.Thread), c.Place.Frame
		if x.Version, err = h.store.MoveSitting(ctx, s, c.Seen); err != nil {
			return api.Sitting{}, err
		}
		x.Moment, x.Thread, x.Frame = s.Moment, s.Thread, s.Frame
	}
	if x, err = h.share(ctx, x, who, c); err != nil {
		return api.Sitting{}, err
	}
	h.mu.Lock()
	p.mode = mode
	if c.Place != nil {
		p.place, p.pointing = *c.Place, nil
	}
	if c.Pointing != nil {
		p.pointing = c.Pointing
	}
	if c.Asks != nil && *c.Asks == p.asked.IsZero() && mode != api.ModeLead {
		p.asked = time.Time{}
		if *c.Asks {
			p.asked = time.Now()
		}
	}
	h.mu.Unlock()
	h.announce(x.ID)
	return h.Describe(x), nil
}

// share changes what a sitting shares beside its place.
func (h *Hub) share(ctx context.Context, x store.Sitting, who store.Person, c api.SittingChange) (store.Sitting, error) {
	change := func(field, kind, text string) error {
		return h.store.ShareInSitting(ctx, field, x, step(x, who, kind, text))
	}
	if c.Watches != nil {
		x.Watches = *c.Watches
		if err := change("Watches", api.StepWatch, strings.Join(x.Watches, ", ")); err != nil {
			return x, err
		}
	}
	if c.Columns != nil {
		x.Columns = *c.Columns
		if err := change("Columns", api.StepTable, strings.Join(x.Columns, ", ")); err != nil {
			return x, err
		}
	}
	if c.Format != nil {
		x.Format = *c.Format
		if err := change("Format", api.StepWrite, cmp.Or(x.Format, "decimal")); err != nil {
			return x, err
		}
	}
	return x, nil
}

// Say keeps what a person says in a sitting.
func (h *Hub) Say(ctx context.Context, x store.Sitting, who store.Person, text string) error {
	s := step(x, who, api.StepSay, text)
	h.mu.Lock()
	if p := h.room(x.ID).people[who.Name]; p != nil && p.mode == api.ModeRoam {
		s.Moment, s.Thread, s.Frame = int64(p.place.Moment), int64(p.place.Thread), p.place.Frame
	}
	h.mu.Unlock()
	if err := h.store.AddStep(ctx, s); err != nil {
		return err
	}
	h.announce(x.ID)
	return nil
}

func step(x store.Sitting, who store.Person, kind, text string) store.SittingStep {
	return store.SittingStep{SittingID: x.ID, PersonID: who.ID, Kind: kind, Moment: x.Moment, Thread: x.Thread, Frame: x.Frame, Text: text}
}

func (h *Hub) announce(id int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.room(id).changed()
}

func placeOf(x store.Sitting) api.Place {
	return api.Place{Moment: event.Moment(x.Moment), Thread: event.ThreadID(x.Thread), Frame: x.Frame}
}

// Describe returns a sitting as clients see it.
func (h *Hub) Describe(x store.Sitting) api.Sitting {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := api.Sitting{ID: x.ID, Case: x.Case.Name, Evidence: x.Evidence.Name, Place: placeOf(x), Version: x.Version, Watches: x.Watches, Columns: x.Columns, Format: x.Format, Here: []api.Attendee{}}
	if out.Watches == nil {
		out.Watches = []string{}
	}
	if out.Columns == nil {
		out.Columns = []string{}
	}
	r := h.room(x.ID)
	if x.Leader != nil {
		out.Leader, out.Away = x.Leader.Name, !r.present(x.Leader.Name)
	}
	for name, p := range r.people {
		if !r.present(name) {
			if time.Since(r.goneSince(name)) > lingers {
				delete(r.people, name)
			}
			continue
		}
		place := p.place
		if p.mode != api.ModeRoam {
			place = out.Place
		}
		out.Here = append(out.Here, api.Attendee{Name: name, Mode: p.mode, Place: place, Pointing: p.pointing, Asks: !p.asked.IsZero(), MayLead: p.mayLead})
	}
	slices.SortFunc(out.Here, func(a, b api.Attendee) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// elect hands the lead of a sitting on if the lead has been away for too long.
func (h *Hub) elect(ctx context.Context, id int64) error {
	x, err := h.store.SittingByID(ctx, id)
	if err != nil || x.Leader == nil {
		return err
	}
	h.mu.Lock()
	r := h.room(id)
	hasLead := hasLead(r, x)
	var to *store.Person
	if next := r.next(); next != "" {
		to = &store.Person{ID: r.people[next].id, Name: next}
	}
	h.mu.Unlock()
	if hasLead {
		return nil
	}
	text := "was away: nobody leads"
	if to != nil {
		text = "was away: " + to.Name + " leads"
	}
	if _, err := h.handOver(ctx, x, *x.Leader, to, text); err != nil {
		return err
	}
	h.announce(id)
	return nil
}

// Watcher receives what happens in a sitting.
type Watcher struct {
	// After is the ID of the last step that it has received; 0 if it needs none.
	After   int64
	MayLead bool
	// State receives the sitting's state (api.Sitting as JSON), with the ID of the last step; Step one that came since. Beat is called when
	// nothing has happened for a while.
	State func(x json.RawMessage, last int64) error
	Step  func(api.SittingStep) error
	Beat  func() error
}

// Watch informs a watcher of the current state and of every change, until the context ends or the watcher fails. Whoever watches
// and is not in the sitting joins it: the service has been restarted, or the person was away for long.
func (h *Hub) Watch(ctx context.Context, id int64, who store.Person, w Watcher) error {
	changed := make(chan struct{}, 1)
	h.mu.Lock()
	h.room(id).watchers[changed] = who.Name
	h.mu.Unlock()
	defer h.leave(id, who.Name, changed)
	x, err := h.store.SittingByID(ctx, id)
	if err != nil {
		return err
	}
	if _, err := h.Join(ctx, x, who, "", w.MayLead); err != nil {
		return err
	}
	last, err := h.store.LastStep(ctx, id)
	if err != nil {
		return err
	}
	if w.After > 0 {
		last = w.After
	}
	ticker := time.NewTicker(15 * time.Second)
	defer ticker.Stop()
	h.announce(id)
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-ticker.C:
			if err := w.Beat(); err != nil {
				return err
			}
		case <-changed:
			if last, err = h.inform(ctx, id, who.ID, w, last); err != nil {
				return err
			}
		}
	}
}

// inform sends a watcher the steps after one, and the state. It returns the last step. What all watchers need is read once, also who of them may look.
func (h *Hub) inform(ctx context.Context, id, person int64, w Watcher, last int64) (int64, error) {
	h.mu.Lock()
	r := h.room(id)
	change := r.changes
	h.mu.Unlock()
	may, err := r.may.Get(change, func() (map[int64]bool, error) { return h.store.LookersOfSitting(ctx, id) })
	if err != nil {
		return last, err
	}
	if !may[person] {
		return last, fault.PermissionDenied
	}
	for {
		steps, err := r.steps.After(ctx, last, change)
		if err != nil {
			return last, err
		}
		if len(steps) == 0 {
			break
		}
		for _, s := range steps {
			last = s.ID
			if err := w.Step(s); err != nil {
				return last, err
			}
		}
	}
	state, err := r.state.Get(change, func() (json.RawMessage, error) {
		x, err := h.store.SittingByID(ctx, id)
		if err != nil {
			return nil, err
		}
		return json.Marshal(h.Describe(x))
	})
	if err != nil {
		return last, err
	}
	return last, w.State(state, last)
}

// StepOf returns a step as clients see it.
func StepOf(s store.SittingStep) api.SittingStep {
	return api.SittingStep{ID: s.ID, By: s.Person.Name, At: s.At, Kind: s.Kind, Text: s.Text, Place: api.Place{Moment: event.Moment(s.Moment), Thread: event.ThreadID(s.Thread), Frame: s.Frame}}
}

// leave ends a watcher. If its person does not come back, others see it, and the lead is handed on in time.
func (h *Hub) leave(id int64, name string, changed chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := h.room(id)
	delete(r.watchers, changed)
	if p := r.people[name]; p != nil {
		p.seen = time.Now().Add(reload - lingers)
	}
	time.AfterFunc(reload+time.Second, func() { h.announce(id) })
	time.AfterFunc(reload+lingers+time.Second, func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		_ = h.elect(ctx, id) // the next who joins leads, if this fails
	})
}
