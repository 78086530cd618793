// Package sittings tracks who is in which sitting and notifies everybody in it of changes. The
// place of a sitting is in the database; who is present is known to this process only.
package sittings

import (
	"context"
	"sort"
	"sync"
	"time"

	"wraithology/api"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/service/store"
)

// Hub holds the sittings that somebody is in.
type Hub struct {
	store *store.Store
	mu    sync.Mutex
	rooms map[int64]*room
}

type room struct {
	people   map[string]*attendee
	watchers map[chan struct{}]string // whom each watcher belongs to
}

type attendee struct {
	mode  string
	place api.Place
	seen  time.Time
}

// lingers is how long somebody without a watcher counts as present.
const lingers = 30 * time.Second

// New returns the sittings of a store.
func New(s *store.Store) *Hub { return &Hub{store: s, rooms: map[int64]*room{}} }

func (h *Hub) room(id int64) *room {
	r := h.rooms[id]
	if r == nil {
		r = &room{people: map[string]*attendee{}, watchers: map[chan struct{}]string{}}
		h.rooms[id] = r
	}
	return r
}

func (r *room) changed() {
	for c := range r.watchers {
		select {
		case c <- struct{}{}:
		default: // it has a change to look at already
		}
	}
}

func (r *room) present(name string) bool {
	for _, who := range r.watchers {
		if who == name {
			return true
		}
	}
	return time.Since(r.people[name].seen) < lingers
}

func (r *room) leader() string {
	for name, p := range r.people {
		if p.mode == api.ModeLead && r.present(name) {
			return name
		}
	}
	return ""
}

// Join adds a person to a sitting. Without a mode, a person who can lead does so if nobody else
// leads; all others follow.
func (h *Hub) Join(x store.Sitting, name, mode string, mayLead bool) api.Sitting {
	h.mu.Lock()
	r := h.room(x.ID)
	leader := r.leader()
	if mode == "" {
		mode = api.ModeFollow
		if have := r.people[name]; have != nil && r.present(name) {
			mode = have.mode
		} else if mayLead && leader == "" {
			mode = api.ModeLead
		}
	}
	if mode == api.ModeLead && leader != "" && leader != name {
		r.people[leader].mode = api.ModeFollow
	}
	r.people[name] = &attendee{mode: mode, place: placeOf(x), seen: time.Now()}
	r.changed()
	h.mu.Unlock()
	return h.describe(x)
}

// Change moves a person or changes the mode. A leader moves the sitting; a follower who moves roams
// from then on.
func (h *Hub) Change(ctx context.Context, x store.Sitting, name string, c api.SittingChange) (api.Sitting, error) {
	h.mu.Lock()
	r := h.room(x.ID)
	p := r.people[name]
	if p == nil {
		h.mu.Unlock()
		return api.Sitting{}, fault.NotInSitting
	}
	p.seen = time.Now()
	if c.Mode != "" {
		if leader := r.leader(); c.Mode == api.ModeLead && leader != "" && leader != name {
			r.people[leader].mode = api.ModeFollow
		}
		p.mode = c.Mode
	} else if c.Place != nil && p.mode == api.ModeFollow {
		p.mode = api.ModeRoam
	}
	leads := p.mode == api.ModeLead
	if c.Place != nil {
		p.place = *c.Place
	}
	h.mu.Unlock()
	if c.Place != nil && leads {
		moment, thread := int64(c.Place.Moment), int64(c.Place.Thread)
		var err error
		if x.Version, err = h.store.MoveSitting(ctx, x.ID, moment, thread, c.Place.Frame); err != nil {
			return api.Sitting{}, err
		}
		x.Moment, x.Thread, x.Frame = moment, thread, c.Place.Frame
	}
	h.mu.Lock()
	h.room(x.ID).changed()
	h.mu.Unlock()
	return h.describe(x), nil
}

func placeOf(x store.Sitting) api.Place {
	return api.Place{Moment: event.Moment(x.Moment), Thread: event.ThreadID(x.Thread), Frame: x.Frame}
}

func (h *Hub) describe(x store.Sitting) api.Sitting {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := api.Sitting{ID: x.ID, Case: x.Case.Name, Evidence: x.Evidence.Name, Place: placeOf(x), Version: x.Version, Here: []api.Attendee{}}
	r := h.room(x.ID)
	for name, p := range r.people {
		if !r.present(name) {
			delete(r.people, name)
			continue
		}
		place := p.place
		if p.mode != api.ModeRoam {
			place = out.Place
		}
		out.Here = append(out.Here, api.Attendee{Name: name, Mode: p.mode, Place: place})
	}
	sort.Slice(out.Here, func(i, j int) bool { return out.Here[i].Name < out.Here[j].Name })
	return out
}

// Watch calls f with the sitting's current state and after every change, until the context ends or
// f fails. It calls beat when nothing has changed for a while.
func (h *Hub) Watch(ctx context.Context, id int64, name string, f func(api.Sitting) error, beat func() error) error {
	changed := make(chan struct{}, 1)
	changed <- struct{}{}
	h.mu.Lock()
	h.room(id).watchers[changed] = name
	h.room(id).changed()
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		r := h.room(id)
		delete(r.watchers, changed)
		if p := r.people[name]; p != nil {
			p.seen = time.Now().Add(2*time.Second - lingers) // a reload must not look like leaving
		}
		time.AfterFunc(3*time.Second, func() {
			h.mu.Lock()
			defer h.mu.Unlock()
			r.changed()
		})
	}()
	ticker := time.NewTicker(15 * time.Second)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-ticker.C:
			if err := beat(); err != nil {
				return err
			}
		case <-changed:
			x, err := h.store.SittingByID(ctx, id)
			if err != nil {
				return err
			}
			if err := f(h.describe(x)); err != nil {
				return err
			}
		}
	}
}
