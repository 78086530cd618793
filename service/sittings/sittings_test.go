package sittings

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/service/store"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// parts are a hub with people, and a way to open sittings.
type parts struct {
	*Hub
	people map[string]store.Person
	caseID int64
	opened int
}

func open(t *testing.T, names ...string) *parts {
	ctx := t.Context()
	s, err := store.Open(ctx, clustertest.Database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	p := &parts{Hub: New(s), people: map[string]store.Person{}}
	for _, name := range names {
		who := store.Person{Name: name}
		require.NoError(t, s.AddPerson(ctx, &who))
		p.people[name] = who
	}
	c := store.Case{Name: "fog"}
	require.NoError(t, s.AddCase(ctx, &c, p.people[names[0]].ID))
	p.caseID = c.ID
	for _, name := range names[1:] {
		require.NoError(t, s.SetMember(ctx, store.Member{CaseID: c.ID, PersonID: p.people[name].ID, Role: api.RoleMember}))
	}
	return p
}

// Whoever loses the right to look hears nothing more, not even what happens next.
func TestAWatcherLosesTheRight(t *testing.T) {
	t.Parallel()
	p := open(t, "Ines", "Tomas")
	id := p.sitting(t)
	var states atomic.Int64
	ended := make(chan error, 1)
	go func() {
		ended <- p.Watch(t.Context(), id, p.people["Tomas"], Watcher{Beat: func() error { return nil }, Step: func(api.SittingStep) error { return nil },
			State: func(json.RawMessage, int64) error { states.Add(1); return nil }})
	}()
	require.Eventually(t, func() bool { return states.Load() > 0 }, 10*time.Second, 10*time.Millisecond)
	require.NoError(t, p.store.RemoveMember(t.Context(), p.caseID, p.people["Tomas"].ID))
	before := states.Load()
	_, err := p.Join(t.Context(), p.now(t, id), p.people["Ines"], "", true)
	require.NoError(t, err)
	p.announce(id)
	require.ErrorIs(t, <-ended, fault.PermissionDenied)
	assert.Equal(t, before, states.Load())
}

func (p *parts) sitting(t *testing.T) int64 {
	p.opened++
	e := store.Evidence{CaseID: p.caseID, PersonID: 1, Name: fmt.Sprint("run", p.opened), State: api.StateReady, SHA256: "00"}
	require.NoError(t, p.store.AddEvidence(t.Context(), &e))
	x, err := p.store.OpenSitting(t.Context(), store.Sitting{CaseID: p.caseID, EvidenceID: e.ID, Moment: 7, Thread: 1})
	require.NoError(t, err)
	return x.ID
}

func (p *parts) now(t *testing.T, id int64) store.Sitting {
	x, err := p.store.SittingByID(t.Context(), id)
	require.NoError(t, err)
	return x
}

func modes(s api.Sitting) map[string]string {
	out := map[string]string{}
	for _, a := range s.Here {
		out[a.Name] = a.Mode
	}
	return out
}

func attendeeOf(s api.Sitting, name string) api.Attendee {
	i := slices.IndexFunc(s.Here, func(a api.Attendee) bool { return a.Name == name })
	return s.Here[i]
}

// People join, take the lead, hand it over, follow and roam, in any order: at most one leads, it is the last who took or got the
// lead, everybody sees the same, and so does a service that is started again.
func TestOneLeads(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	names := []string{"Ines", "Tomas", "Oyelaran", "Wren"}
	hub := open(t, names...)
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 9))
		id := hub.sitting(t)
		want := map[string]string{}
		leads := func() string {
			for name, mode := range want {
				if mode == api.ModeLead {
					return name
				}
			}
			return ""
		}
		take := func(name, mode string) {
			if l := leads(); mode == api.ModeLead && l != "" && l != name {
				want[l] = api.ModeFollow
			}
			want[name] = mode
		}
		mayLead := map[string]bool{}
		for step := range 50 {
			name := names[random.IntN(len(names))]
			who := hub.people[name]
			label := fmt.Sprintf("seed %d, step %d, %s", seed, step, name)
			var got api.Sitting
			var err error
			switch random.IntN(4) {
			case 0:
				mayLead[name] = random.IntN(2) == 0
				mode := []string{"", api.ModeLead, api.ModeFollow, api.ModeRoam}[random.IntN(4)]
				got, err = hub.Join(ctx, hub.now(t, id), who, mode, mayLead[name])
				require.NoError(t, err, label)
				switch {
				case mode != "":
					take(name, mode)
				case leads() == "" && mayLead[name]:
					take(name, api.ModeLead)
				case want[name] == "":
					take(name, api.ModeFollow)
				}
			case 1:
				mode := []string{api.ModeLead, api.ModeFollow, api.ModeRoam}[random.IntN(3)]
				got, err = hub.Change(ctx, hub.now(t, id), who, api.SittingChange{Mode: mode})
				if want[name] == "" {
					require.ErrorIs(t, err, fault.NotInSitting, label)
					continue
				}
				require.NoError(t, err, label)
				take(name, mode)
			case 2: // whoever follows and moves looks around alone
				if want[name] != api.ModeFollow && want[name] != api.ModeRoam {
					continue
				}
				got, err = hub.Change(ctx, hub.now(t, id), who, api.SittingChange{Place: &api.Place{Moment: 42}})
				require.NoError(t, err, label)
				want[name] = api.ModeRoam
				require.EqualValues(t, 42, attendeeOf(got, name).Place.Moment, label)
				require.EqualValues(t, 1, got.Version, "%s moved the sitting", label)
			case 3:
				to := names[random.IntN(len(names))]
				got, err = hub.Change(ctx, hub.now(t, id), who, api.SittingChange{HandTo: to})
				switch {
				case want[name] == "":
					require.ErrorIs(t, err, fault.NotInSitting, label)
					continue
				case want[name] != api.ModeLead:
					require.ErrorIs(t, err, fault.NotLeading, label)
					continue
				case want[to] == "" || !mayLead[to] || to == name:
					require.ErrorIs(t, err, fault.InvalidRequest, label)
					continue
				}
				require.NoError(t, err, label)
				want[name] = api.ModeFollow
				want[to] = api.ModeLead
			}
			require.Equal(t, want, modes(got), label)
			require.Equal(t, leads(), got.Leader, label)
			x := hub.now(t, id)
			if require.Equal(t, leads() != "", x.Leader != nil, label); x.Leader != nil {
				require.Equal(t, leads(), x.Leader.Name, label)
			}
		}
	}
}

// Two people, or two pages of one, move at the same time: each move is seen, or refused because of the one before.
func TestMovesAtTheSameTime(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	hub := open(t, "Ines")
	id := hub.sitting(t)
	ines := hub.people["Ines"]
	_, err := hub.Join(ctx, hub.now(t, id), ines, api.ModeLead, true)
	require.NoError(t, err)
	var wait sync.WaitGroup
	var mu sync.Mutex
	moved, refused := 0, 0
	for page := range 4 {
		wait.Go(func() {
			for i := range 25 {
				x, err := hub.store.SittingByID(ctx, id)
				if err != nil {
					t.Error(err)
					return
				}
				_, err = hub.Change(ctx, x, ines, api.SittingChange{Place: &api.Place{Moment: event.Moment(100*page + i)}, Seen: x.Version})
				mu.Lock()
				switch {
				case err == nil:
					moved++
				case assert.ErrorIs(t, err, fault.SittingMoved):
					refused++
				}
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	assert.Equal(t, 100, moved+refused)
	assert.EqualValues(t, 1+moved, hub.now(t, id).Version, "no move overwrote another one")
	steps, err := hub.store.StepsOf(ctx, id, store.Page{Most: 1000})
	require.NoError(t, err)
	n := 0
	for _, s := range steps {
		if s.Kind == api.StepMove {
			n++
		}
	}
	assert.Equal(t, moved, n)
	_, err = hub.Change(ctx, hub.now(t, id), ines, api.SittingChange{Place: &api.Place{Moment: 4}})
	assert.NoError(t, err, "without a version it moves anyhow")
}

// age makes a person look absent for a time.
func (p *parts) age(id int64, name string, by time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.rooms[id].people[name].seen = time.Now().Add(-lingers - by)
}

// The lead who disappears stays lead for a while, and then whoever asks for it leads, or who is here longest; a lead who comes
// back in time leads on, also after a restart.
func TestALeadWhoDisappears(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	hub := open(t, "Ines", "Tomas", "Wren", "Oyelaran")
	id := hub.sitting(t)
	join := func(name string, mayLead bool) api.Sitting {
		s, err := hub.Join(ctx, hub.now(t, id), hub.people[name], "", mayLead)
		require.NoError(t, err)
		return s
	}
	join("Ines", true)
	join("Oyelaran", false)
	join("Wren", true)
	join("Tomas", true)
	yes := true
	got, err := hub.Change(ctx, hub.now(t, id), hub.people["Tomas"], api.SittingChange{Asks: &yes})
	require.NoError(t, err)
	assert.True(t, attendeeOf(got, "Tomas").Asks)

	hub.age(id, "Ines", time.Second)
	require.NoError(t, hub.elect(ctx, id))
	got = join("Wren", true)
	assert.Equal(t, []any{"Ines", true}, []any{got.Leader, got.Away}, "not away for long")
	got = join("Ines", true)
	assert.Equal(t, []any{"Ines", false, api.ModeLead}, []any{got.Leader, got.Away, modes(got)["Ines"]})

	hub.age(id, "Ines", 2*lingers)
	require.NoError(t, hub.elect(ctx, id))
	got = join("Wren", true)
	assert.Equal(t, map[string]string{"Tomas": api.ModeLead, "Wren": api.ModeFollow, "Oyelaran": api.ModeFollow}, modes(got), "he asked")
	assert.False(t, attendeeOf(got, "Tomas").Asks)

	restarted := New(hub.store)
	s, err := restarted.Join(ctx, hub.now(t, id), hub.people["Wren"], "", true)
	require.NoError(t, err)
	assert.Equal(t, []any{"Tomas", true, api.ModeFollow}, []any{s.Leader, s.Away, modes(s)["Wren"]}, "he can come back")
	s, err = restarted.Join(ctx, hub.now(t, id), hub.people["Tomas"], "", true)
	require.NoError(t, err)
	assert.Equal(t, api.ModeLead, modes(s)["Tomas"])

	hub.age(id, "Tomas", 2*lingers)
	hub.age(id, "Wren", 2*lingers)
	require.NoError(t, hub.elect(ctx, id))
	got = join("Oyelaran", false)
	assert.Empty(t, got.Leader, "who may not lead is not chosen")
	assert.Equal(t, api.ModeLead, modes(join("Wren", true))["Wren"], "nobody led")
}

// A watcher receives every step once, in order, also those during which it was disconnected, and the state after them.
func TestWatchersMissNothing(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	hub := open(t, "Ines", "Tomas")
	id := hub.sitting(t)
	ines := hub.people["Ines"]
	_, err := hub.Join(ctx, hub.now(t, id), ines, "", true)
	require.NoError(t, err)
	var seen []string
	var last int64
	watch := func(until string) {
		err := hub.Watch(ctx, id, hub.people["Tomas"], Watcher{After: last,
			State: func(_ json.RawMessage, l int64) error {
				last = l
				if len(seen) > 0 && seen[len(seen)-1] == until {
					return context.Canceled
				}
				return nil
			},
			Step: func(s api.SittingStep) error {
				if s.Kind == api.StepSay {
					seen = append(seen, s.Text)
				}
				return nil
			},
			Beat: func() error { return nil }})
		require.ErrorIs(t, err, context.Canceled)
	}
	var want []string
	say := func() {
		want = append(want, fmt.Sprint("word ", len(want)))
		require.NoError(t, hub.Say(ctx, hub.now(t, id), ines, want[len(want)-1]))
	}
	go func() {
		time.Sleep(50 * time.Millisecond)
		for range 20 {
			say()
		}
	}()
	watch("word 19")
	for range 20 {
		say()
	}
	watch("word 39")
	assert.Equal(t, want, seen)
	hub.mu.Lock()
	assert.Empty(t, hub.rooms[id].watchers)
	hub.mu.Unlock()
}

// Whoever watches is here, who is silent for long has gone; what a person points at belongs to a place.
func TestWhoIsHere(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	hub := open(t, "Ines", "Tomas", "Wren")
	id := hub.sitting(t)
	for _, name := range []string{"Ines", "Tomas"} {
		_, err := hub.Join(ctx, hub.now(t, id), hub.people[name], "", true)
		require.NoError(t, err)
	}
	at := &api.Pointing{Kind: "value", At: "quay.Depth"}
	got, err := hub.Change(ctx, hub.now(t, id), hub.people["Tomas"], api.SittingChange{Pointing: at})
	require.NoError(t, err)
	assert.Equal(t, at, attendeeOf(got, "Tomas").Pointing)
	got, err = hub.Change(ctx, hub.now(t, id), hub.people["Tomas"], api.SittingChange{Place: &api.Place{Moment: 9}})
	require.NoError(t, err)
	assert.Nil(t, attendeeOf(got, "Tomas").Pointing)
	watches := []string{"quay.Depth", "clearance < 0.5"}
	got, err = hub.Change(ctx, hub.now(t, id), hub.people["Tomas"], api.SittingChange{Watches: &watches})
	require.NoError(t, err)
	assert.Equal(t, watches, got.Watches)
	assert.Equal(t, watches, hub.now(t, id).Watches)

	changed := make(chan struct{}, 1)
	hub.mu.Lock()
	hub.room(id).watchers[changed] = "Ines"
	hub.mu.Unlock()
	hub.age(id, "Ines", time.Hour)
	hub.age(id, "Tomas", time.Hour)
	got, err = hub.Join(ctx, hub.now(t, id), hub.people["Wren"], "", true)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"Ines": api.ModeLead, "Wren": api.ModeFollow}, modes(got))
}
