package sittings

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/store"
)

func modes(s api.Sitting) map[string]string {
	out := map[string]string{}
	for _, a := range s.Here {
		out[a.Name] = a.Mode
	}
	return out
}

// People join, take the lead, follow and roam, in any order: at most one leads, it is the last who
// took the lead, and everybody sees the same.
func TestOneLeads(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	people := []string{"Ines", "Tomas", "Oyelaran", "Wren"}
	for seed := range uint64(50) {
		random := rand.New(rand.NewPCG(seed, 9))
		hub := New(nil)
		x := store.Sitting{ID: 7, Version: 1}
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
		for step := range 60 {
			name := people[random.IntN(len(people))]
			label := fmt.Sprintf("seed %d, step %d, %s", seed, step, name)
			var got api.Sitting
			switch random.IntN(3) {
			case 0:
				mayLead := random.IntN(2) == 0
				mode := []string{"", api.ModeLead, api.ModeFollow, api.ModeRoam}[random.IntN(4)]
				got = hub.Join(x, name, mode, mayLead)
				switch {
				case mode != "":
					take(name, mode)
				case want[name] != "": // as before
				case mayLead && leads() == "":
					take(name, api.ModeLead)
				default:
					take(name, api.ModeFollow)
				}
			case 1:
				mode := []string{api.ModeLead, api.ModeFollow, api.ModeRoam}[random.IntN(3)]
				var err error
				got, err = hub.Change(ctx, x, name, api.SittingChange{Mode: mode})
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
				var err error
				got, err = hub.Change(ctx, x, name, api.SittingChange{Place: &api.Place{Moment: 42}})
				require.NoError(t, err, label)
				want[name] = api.ModeRoam
				i := slices.IndexFunc(got.Here, func(a api.Attendee) bool { return a.Name == name })
				require.EqualValues(t, 42, got.Here[i].Place.Moment, label)
				require.EqualValues(t, 1, got.Version, "%s moved the sitting", label)
			}
			require.Equal(t, want, modes(got), label)
		}
	}
}

// Watchers receive each change, and a person who has gone frees the lead.
func TestWhoIsHere(t *testing.T) {
	t.Parallel()
	hub := New(nil)
	x := store.Sitting{ID: 1}
	hub.Join(x, "Ines", "", true)
	changed := make(chan struct{}, 1)
	hub.mu.Lock()
	hub.room(1).watchers[changed] = "Ines"
	hub.mu.Unlock()
	for range 3 { // a watcher that has not looked yet holds nobody up
		hub.Join(x, "Tomas", "", true)
	}
	assert.Len(t, changed, 1)
	hub.mu.Lock()
	for _, p := range hub.rooms[1].people {
		p.seen = time.Now().Add(-2 * lingers)
	}
	hub.mu.Unlock()
	got := hub.Join(x, "Wren", "", true)
	assert.Equal(t, map[string]string{"Ines": api.ModeLead, "Wren": api.ModeFollow}, modes(got), "who watches is here, who is silent for long has gone")
}
