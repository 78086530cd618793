package store

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/custody"
	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(context.Background(), clustertest.Database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// person adds a person.
func (s *Store) person(t *testing.T, name string) int64 {
	t.Helper()
	p := Person{Name: name, PasswordHash: "hash of " + name}
	require.NoError(t, s.AddPerson(t.Context(), &p))
	require.NotZero(t, p.ID)
	return p.ID
}

// openCase adds a case.
func (s *Store) openCase(t *testing.T, name string, leader int64) int64 {
	t.Helper()
	c := Case{Name: name, Title: "On " + name}
	require.NoError(t, s.AddCase(t.Context(), &c, leader))
	return c.ID
}

// evidence adds evidence that is ready.
func (s *Store) evidence(t *testing.T, caseID, person int64, e Evidence) Evidence {
	t.Helper()
	e.CaseID, e.PersonID, e.State, e.SHA256 = caseID, person, cmp.Or(e.State, "ready"), strings.Repeat("ab", 32)
	require.NoError(t, s.AddEvidence(t.Context(), &e))
	return e
}

func names[T any](list []T, name func(T) string) []string {
	out := []string{}
	for _, x := range list {
		out = append(out, name(x))
	}
	return out
}

// Opening a database that is up to date changes nothing in it.
func TestOpenTwice(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	url := clustertest.Database(t)
	first, err := Open(ctx, url, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer first.Close()
	id := first.person(t, "Ines")
	second, err := Open(ctx, url, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer second.Close()
	p, err := second.PersonByID(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "Ines", p.Name)
	require.NoError(t, second.Ping(ctx))
	_, err = Open(ctx, "postgres://nobody:x@127.0.0.1:1/none?connect_timeout=1", slog.New(slog.DiscardHandler))
	require.Error(t, err)
}

func TestPeople(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas := s.person(t, "Ines"), s.person(t, "Tomas")
	require.NotEqual(t, ines, tomas)

	// The first person is an administrator. A name is given once, and adding a person changes nobody.
	require.ErrorIs(t, s.AddPerson(ctx, &Person{Name: "Ines", PasswordHash: "another"}), fault.Exists)
	p, err := s.PersonByName(ctx, "Ines")
	require.NoError(t, err)
	assert.Equal(t, "hash of Ines", p.PasswordHash)
	assert.True(t, p.Admin)
	assert.WithinDuration(t, time.Now(), p.CreatedAt, time.Minute)

	p, err = s.PersonByID(ctx, tomas)
	require.NoError(t, err)
	assert.Equal(t, "Tomas", p.Name)
	assert.False(t, p.Admin)
	list, err := s.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"Ines", "Tomas"}, names(list, func(p Person) string { return p.Name }))
	_, err = s.PersonByName(ctx, "ines")
	require.ErrorIs(t, err, fault.NotFound)
	_, err = s.PersonByID(ctx, 4711)
	require.ErrorIs(t, err, fault.NotFound)

	// There is always an administrator who can sign in.
	require.ErrorIs(t, s.Grant(ctx, ines, false), fault.LastAdmin)
	require.ErrorIs(t, s.Disable(ctx, ines, true), fault.LastAdmin)
	require.ErrorIs(t, s.RemovePerson(ctx, personNamed(t, s, "Ines")), fault.LastAdmin)
	require.NoError(t, s.Grant(ctx, tomas, true))
	require.NoError(t, s.Grant(ctx, ines, false))
	require.ErrorIs(t, s.Grant(ctx, 4711, true), fault.NotFound)

	// Who is disabled is in no case, and nobody's list; what the person had comes back.
	fog := s.openCase(t, "fog", ines)
	require.NoError(t, s.AddToken(ctx, &Token{PersonID: ines, Scope: ScopeRead, SecretHash: []byte("secret")}))
	require.NoError(t, s.AddSender(ctx, &Sender{CaseID: fog, PersonID: ines, SecretHash: []byte("sends")}))
	require.NoError(t, s.SaveSession(Session{Token: "browser", Data: []byte("x"), Expiry: time.Now().Add(time.Hour), PersonID: &ines}))
	works := func() (works []string) {
		if _, _, err := s.CaseFor(ctx, "fog", ines); err == nil {
			works = append(works, "case")
		}
		if _, _, err := s.PersonByToken(ctx, []byte("secret")); err == nil {
			works = append(works, "token")
		}
		if _, err := s.SenderByToken(ctx, []byte("sends")); err == nil {
			works = append(works, "sender")
		}
		if _, found, _ := s.FindSession("browser"); found {
			works = append(works, "session")
		}
		return works
	}
	assert.Equal(t, []string{"case", "token", "sender", "session"}, works())
	require.NoError(t, s.Disable(ctx, ines, true))
	assert.Empty(t, works())
	list, err = s.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"Tomas"}, names(list, func(p Person) string { return p.Name }))
	require.NoError(t, s.Disable(ctx, ines, false))
	assert.Equal(t, []string{"case", "token", "sender"}, works(), "browsers sign in again")

	// Who is removed stays in the records, but not as the only lead of others; the name can be given again.
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "member"}))
	require.NoError(t, s.Note(ctx, fog, ines, "looked"))
	require.ErrorIs(t, s.RemovePerson(ctx, personNamed(t, s, "Ines")), fault.LastLead)
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "lead"}))
	require.NoError(t, s.RemovePerson(ctx, personNamed(t, s, "Ines")))
	assert.Empty(t, works())
	require.ErrorIs(t, s.Disable(ctx, ines, false), fault.NotFound)
	notes, err := s.CustodyOf(ctx, fog, CustodyPage{Most: 10})
	require.NoError(t, err)
	assert.Equal(t, "Ines", notes[0].By, "the record keeps the name")
	assert.NotEqual(t, ines, s.person(t, "Ines"))
}

// personNamed finds a person.
func personNamed(t *testing.T, s *Store, name string) Person {
	p, err := s.PersonByName(t.Context(), name)
	require.NoError(t, err)
	return p
}

// A token finds its person by the hash of its secret, and nobody else.
func TestTokens(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	for _, name := range []string{"Ines", "Tomas"} {
		require.NoError(t, s.AddToken(ctx, &Token{PersonID: s.person(t, name), Label: "laptop", Scope: ScopeIngest, SecretHash: []byte("secret of " + name)}))
	}
	for _, name := range []string{"Ines", "Tomas"} {
		p, scope, err := s.PersonByToken(ctx, []byte("secret of "+name))
		require.NoError(t, err)
		assert.Equal(t, ScopeIngest, scope)
		assert.Equal(t, name, p.Name)
		assert.Equal(t, "hash of "+name, p.PasswordHash)
	}
	_, _, err := s.PersonByToken(ctx, []byte("secret of Wren"))
	require.ErrorIs(t, err, fault.NotFound)
	tomas := personNamed(t, s, "Tomas").ID
	list, err := s.TokensOf(ctx, tomas)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.NotNil(t, list[0].UsedAt)
	assert.WithinDuration(t, time.Now(), *list[0].UsedAt, time.Minute)

	// A token that has expired does not work; it is deleted later.
	for at, works := range map[time.Duration]bool{-time.Second: false, time.Hour: true, -31 * 24 * time.Hour: false} {
		expires := time.Now().Add(at)
		require.NoError(t, s.AddToken(ctx, &Token{PersonID: tomas, Scope: ScopeRead, SecretHash: []byte(at.String()), ExpiresAt: &expires}))
		_, _, err := s.PersonByToken(ctx, []byte(at.String()))
		assert.Equal(t, works, err == nil, at)
	}
	require.NoError(t, s.DeleteExpired(ctx))
	list, err = s.TokensOf(ctx, tomas)
	require.NoError(t, err)
	assert.Len(t, list, 3)
	require.ErrorIs(t, s.DeleteToken(ctx, personNamed(t, s, "Ines").ID, list[0].ID), fault.NotFound, "somebody else's")
	require.NoError(t, s.DeleteToken(ctx, tomas, list[0].ID))
	_, _, err = s.PersonByToken(ctx, []byte("secret of Tomas"))
	require.ErrorIs(t, err, fault.NotFound)
	assert.Error(t, s.AddToken(ctx, &Token{PersonID: 4711, Scope: ScopeRead, SecretHash: []byte("x")}), "a token of nobody")
}

func TestCases(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas := s.person(t, "Ines"), s.person(t, "Tomas")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", tomas)
	require.ErrorIs(t, s.AddCase(ctx, &Case{Name: "fog"}, ines), fault.Exists)

	roles := func(name string) map[string]string {
		c, err := s.CaseByID(ctx, map[string]int64{"fog": fog, "swell": swell}[name])
		require.NoError(t, err)
		out := map[string]string{}
		for _, m := range c.Members {
			out[m.Person.Name] = m.Role
		}
		return out
	}
	assert.Equal(t, map[string]string{"Ines": "lead"}, roles("fog"))
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "viewer"}))
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "member"}))
	assert.Equal(t, map[string]string{"Ines": "lead", "Tomas": "member"}, roles("fog"))
	assert.Equal(t, map[string]string{"Tomas": "lead"}, roles("swell"))

	of := func(person int64) []string {
		list, err := s.FindCases(ctx, person, CaseQuery{})
		require.NoError(t, err)
		return names(list, func(c OwnCase) string { return c.Name })
	}
	assert.Equal(t, []string{"fog"}, of(ines))
	assert.Equal(t, []string{"swell", "fog"}, of(tomas), "the newest first")
	// What a person sees of a case is the person's own part, and pages go on after a case.
	list, err := s.FindCases(ctx, tomas, CaseQuery{Most: 1, Members: 1})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "swell lead Tomas", fmt.Sprint(list[0].Name, " ", list[0].Role, " ", list[0].Members[0].Person.Name))
	list, err = s.FindCases(ctx, tomas, CaseQuery{Most: 5, Members: 5, After: "swell"})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "fog member", list[0].Name+" "+list[0].Role)
	assert.Equal(t, []string{"Ines", "Tomas"}, names(list[0].Members, func(m Member) string { return m.Person.Name }))
	c, me, err := s.CaseFor(ctx, "fog", tomas)
	require.NoError(t, err)
	assert.Equal(t, "fog member", c.Name+" "+me.Role)
	_, _, err = s.CaseFor(ctx, "swell", ines)
	require.ErrorIs(t, err, fault.NotFound, "as if there were none")
	page, err := s.MembersOf(ctx, fog, "Ines", 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"Tomas"}, names(page, func(m Member) string { return m.Person.Name }))

	// A case keeps a lead.
	require.ErrorIs(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: ines, Role: "viewer"}), fault.LastLead)
	require.ErrorIs(t, s.RemoveMember(ctx, fog, ines), fault.LastLead)
	require.ErrorIs(t, s.RemoveMember(ctx, swell, ines), fault.NotFound)
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "lead"}))
	require.NoError(t, s.RemoveMember(ctx, fog, ines))
	assert.Equal(t, map[string]string{"Tomas": "lead"}, roles("fog"))
	require.NoError(t, s.HasCase(ctx, swell))
	require.ErrorIs(t, s.HasCase(ctx, 4711), fault.NotFound)
	_, _, err = s.CaseFor(ctx, "mist", ines)
	require.ErrorIs(t, err, fault.NotFound)
}

// A name that others use for their cases is free. Whoever comes into two cases of one name calls the second one by another name, finds it by that, and
// gets it back by that after it was deleted.
func TestNamesOfCases(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas, odile := s.person(t, "Ines"), s.person(t, "Tomas"), s.person(t, "Odile")
	fog, other := s.openCase(t, "fog", ines), s.openCase(t, "fog", tomas)
	called := func(person int64) map[string]int64 {
		list, err := s.FindCases(ctx, person, CaseQuery{})
		require.NoError(t, err)
		out := map[string]int64{}
		for _, c := range list {
			out[c.Name] = c.ID
			found, me, err := s.CaseFor(ctx, c.Name, person)
			require.NoError(t, err)
			require.Equal(t, c.ID, found.ID)
			require.Equal(t, c.Name, found.Name)
			require.Equal(t, c.Role, me.Role)
		}
		require.Len(t, out, len(list))
		return out
	}
	assert.Equal(t, map[string]int64{"fog": fog}, called(ines))
	assert.Equal(t, map[string]int64{"fog": other}, called(tomas))
	for _, c := range []int64{fog, other} {
		require.NoError(t, s.SetMember(ctx, Member{CaseID: c, PersonID: odile, Role: "lead"}))
	}
	third := s.openCase(t, "fog-3", odile)
	fourth := s.openCase(t, "fog", s.person(t, "Wren"))
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fourth, PersonID: odile, Role: "member"}))
	assert.Equal(t, map[string]int64{"fog": fog, "fog-2": other, "fog-3": third, "fog-4": fourth}, called(odile))
	require.ErrorIs(t, s.AddCase(ctx, &Case{Name: "fog-2"}, odile), fault.Exists)
	page, err := s.FindCases(ctx, odile, CaseQuery{After: "fog-3"})
	require.NoError(t, err)
	assert.Equal(t, []string{"fog-2", "fog"}, names(page, func(c OwnCase) string { return c.Name }))

	require.NoError(t, s.DeleteCase(ctx, other, odile))
	assert.NotContains(t, called(odile), "fog-2")
	assert.Empty(t, called(tomas))
	again := s.openCase(t, "fog", tomas)
	restored, err := s.RestoreCase(ctx, "fog-2", odile)
	require.NoError(t, err)
	assert.Equal(t, other, restored.ID)
	assert.Equal(t, map[string]int64{"fog": again, "fog-2": other}, called(tomas), "the name is taken by now")
	require.NoError(t, s.DeleteCase(ctx, fog, ines))
	s.openCase(t, "fog", ines)
	_, err = s.RestoreCase(ctx, "fog", ines)
	require.ErrorIs(t, err, fault.Exists)
	_, err = s.RestoreCase(ctx, "fog", tomas)
	require.ErrorIs(t, err, fault.NotFound, "of others")
}

// An inbox belongs to a person: neither another person of a similar name nor somebody else's case of the name gets what is for it.
func TestInbox(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	lower, upper := Person{Name: "a.b"}, Person{Name: "A-B"}
	require.NoError(t, s.AddPerson(ctx, &lower))
	require.NoError(t, s.AddPerson(ctx, &upper))
	own := s.openCase(t, "inbox-a-b", upper.ID)
	first, isNew, err := s.Inbox(ctx, lower)
	require.NoError(t, err)
	assert.True(t, isNew)
	assert.Equal(t, "inbox-a-b", first.Name)
	second, isNew, err := s.Inbox(ctx, upper)
	require.NoError(t, err)
	assert.True(t, isNew)
	assert.Equal(t, "inbox-a-b-2", second.Name)
	assert.NotContains(t, []int64{own, first.ID}, second.ID)
	for range 2 {
		again, isNew, err := s.Inbox(ctx, upper)
		require.NoError(t, err)
		assert.False(t, isNew)
		assert.Equal(t, second.ID, again.ID)
	}
	require.NoError(t, s.DeleteCase(ctx, second.ID, upper.ID))
	third, isNew, err := s.Inbox(ctx, upper)
	require.NoError(t, err)
	assert.True(t, isNew)
	assert.NotEqual(t, second.ID, third.ID)
}

func TestEvidence(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	first := s.evidence(t, fog, ines, Evidence{Name: "first", State: "indexing", Fields: map[string]string{"severity": "lvl"}})
	second := s.evidence(t, fog, ines, Evidence{Name: "second"})
	s.evidence(t, swell, ines, Evidence{Name: "first"})
	swell2 := s.openCase(t, "swell2", ines)
	require.ErrorIs(t, s.AddEvidence(ctx, &Evidence{CaseID: fog, PersonID: ines, Name: "first", State: "ready"}), fault.Exists)

	list, err := s.EvidenceOf(ctx, fog)
	require.NoError(t, err)
	assert.Equal(t, []string{"second by Ines", "first by Ines"}, names(list, func(e Evidence) string { return e.Name + " by " + e.Person.Name }))
	got, err := s.EvidenceByName(ctx, fog, "first")
	require.NoError(t, err)
	assert.Equal(t, first.ID, got.ID)
	assert.Equal(t, map[string]string{"severity": "lvl"}, got.Fields)
	_, err = s.EvidenceByName(ctx, swell, "second")
	require.ErrorIs(t, err, fault.NotFound)

	// The progress is written alone; the result is written as a whole.
	require.NoError(t, s.SetProgress(ctx, first, 0.25))
	left, err := s.Unindexed(ctx)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, first.ID, left[0].ID)
	assert.Equal(t, 0.25, left[0].Progress)
	got.State, got.Moments, got.Outcome, got.Fingerprint = "ready", 1<<40, "panic: fog", "f00d"
	// What others changed since it was read stays.
	require.NoError(t, s.SetOffset(ctx, first.ID, -7))
	require.NoError(t, s.MoveEvidence(ctx, first, swell2))
	isLatest, err := s.SaveIndexed(ctx, got)
	require.NoError(t, err)
	assert.True(t, isLatest)
	got, err = s.EvidenceByID(ctx, first.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 1<<40, got.Moments)
	assert.Equal(t, "panic: fog", got.Outcome)
	assert.Equal(t, "Ines", got.Person.Name)
	assert.Equal(t, swell2, got.CaseID)
	assert.EqualValues(t, -7, got.ClockOffsetNs)
	left, err = s.Unindexed(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)

	require.NoError(t, s.SetOffset(ctx, second.ID, -1500))
	got, err = s.EvidenceByID(ctx, second.ID)
	require.NoError(t, err)
	assert.EqualValues(t, -1500, got.ClockOffsetNs)
	_, err = s.EvidenceByID(ctx, 4711)
	require.ErrorIs(t, err, fault.NotFound)
}

// Evidence moves with its sitting, and nothing else moves.
func TestMoveEvidence(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	moved, stays := s.evidence(t, fog, ines, Evidence{Name: "moved"}), s.evidence(t, fog, ines, Evidence{Name: "stays"})
	for _, e := range []Evidence{moved, stays} {
		_, err := s.OpenSitting(ctx, Sitting{CaseID: fog, EvidenceID: e.ID})
		require.NoError(t, err)
	}
	require.NoError(t, s.MoveEvidence(ctx, moved, swell))
	for name, want := range map[string]int64{"moved": swell, "stays": fog} {
		e, err := s.EvidenceByName(ctx, want, name)
		require.NoError(t, err, name)
		x, err := s.OpenSitting(ctx, Sitting{CaseID: 4711, EvidenceID: e.ID})
		require.NoError(t, err, name)
		assert.Equal(t, want, x.CaseID, name)
	}
	// A case that has evidence of that name already refuses it, and nothing moves.
	s.evidence(t, swell, ines, Evidence{Name: "stays"})
	require.ErrorIs(t, s.MoveEvidence(ctx, stays, swell), fault.Exists)
	_, err := s.EvidenceByName(ctx, fog, "stays")
	require.NoError(t, err)
}

// Only what an artifact may explain is read again: some kinds, and what could not be read.
func TestIndexAgain(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	for _, e := range []Evidence{
		{Name: "dump", Kind: "core-dump", Progress: 1}, {Name: "broken", Kind: "execution-log", State: "failed", Progress: 0.5}, {Name: "run", Kind: "execution-log", Progress: 1},
	} {
		s.evidence(t, fog, ines, e)
	}
	s.evidence(t, swell, ines, Evidence{Name: "elsewhere", Kind: "core-dump"})
	list, err := s.IndexAgain(ctx, fog, []string{"core-dump", "crash-text"})
	require.NoError(t, err)
	got := names(list, func(e Evidence) string { return fmt.Sprint(e.Name, " ", e.State, " ", e.Progress) })
	slices.Sort(got)
	assert.Equal(t, []string{"broken indexing 0", "dump indexing 0"}, got)
	e, err := s.EvidenceByName(ctx, fog, "run")
	require.NoError(t, err)
	assert.Equal(t, "ready", e.State)
	e, err = s.EvidenceByName(ctx, swell, "elsewhere")
	require.NoError(t, err)
	assert.Equal(t, "ready", e.State)

	// What was found before it was asked for again is not saved.
	before := list[0]
	after, err := s.IndexOneAgain(ctx, before.ID)
	require.NoError(t, err)
	assert.Equal(t, before.Asked+1, after.Asked)
	before.State, before.Outcome = "ready", "early"
	isLatest, err := s.SaveIndexed(ctx, before)
	require.NoError(t, err)
	assert.False(t, isLatest)
	require.NoError(t, s.SetProgress(ctx, before, 0.75))
	e, err = s.EvidenceByID(ctx, before.ID)
	require.NoError(t, err)
	assert.Equal(t, "indexing  0", fmt.Sprint(e.State, " ", e.Outcome, " ", e.Progress))
	after.State, after.Outcome = "ready", "late"
	isLatest, err = s.SaveIndexed(ctx, after)
	require.NoError(t, err)
	assert.True(t, isLatest)
	_, err = s.IndexOneAgain(ctx, 4711)
	require.ErrorIs(t, err, fault.NotFound)
}

// Evidence with the same failure, and then with a similar one, is found in the cases of the person alone.
func TestSimilarFailures(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas := s.person(t, "Ines"), s.person(t, "Tomas")
	mine, ours, theirs := s.openCase(t, "mine", ines), s.openCase(t, "ours", tomas), s.openCase(t, "theirs", tomas)
	require.NoError(t, s.SetMember(ctx, Member{CaseID: ours, PersonID: ines, Role: "viewer"}))
	require.NoError(t, s.CloseCase(ctx, ours, "taken twice", tomas))
	add := func(of, by int64, name, fingerprint string, functions ...string) Evidence {
		e := s.evidence(t, of, by, Evidence{Name: name, Fingerprint: fingerprint})
		require.NoError(t, s.SaveSketch(ctx, e.ID, ask.Sketch{Functions: []string{"first"}, Words: []string{"old"}}))
		require.NoError(t, s.SaveSketch(ctx, e.ID, ask.Sketch{Functions: functions, Words: []string{"too", "shallow"}}))
		return e
	}
	this := add(mine, ines, "this", "fog", "Check", "run", "main")
	add(mine, ines, "other failure", "swell", "Read", "open", "main")
	add(mine, ines, "again", "fog", "Check", "run", "main")
	add(ours, tomas, "shared", "fog", "Check", "run", "main")
	add(theirs, tomas, "hidden", "fog", "Check", "run", "main")
	add(ours, tomas, "near", "mist", "Check", "serve", "run", "main")
	add(mine, ines, "nearer", "haze", "Check", "run", "start", "main")
	add(theirs, tomas, "hidden too", "mist", "Check", "run")
	add(mine, ines, "no failure", "", "Check", "run", "main")
	list, err := s.SimilarTo(ctx, this, ines)
	require.NoError(t, err)
	assert.Equal(t, []string{"ours/shared true", "mine/again true", "mine/no failure false", "mine/nearer false", "ours/near false"}, names(list, func(x Similar) string { return fmt.Sprintf("%s/%s %v", x.Case.Name, x.Evidence.Name, x.IsSame) }))
	assert.Equal(t, "taken twice", list[0].Case.Cause)
	assert.Equal(t, []float64{1, 1}, []float64{list[0].Score, list[1].Score})
	assert.Greater(t, list[3].Score, list[4].Score)
	none, err := s.SimilarTo(ctx, Evidence{ID: 4711}, ines)
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestArtifacts(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	for _, name := range []string{"harbour", "harbour.debug"} {
		require.NoError(t, s.AddArtifact(ctx, &Artifact{CaseID: fog, PersonID: ines, Name: name, Kind: "binary", SHA256: "x", BuildID: "b-" + name}))
	}
	require.ErrorIs(t, s.AddArtifact(ctx, &Artifact{CaseID: fog, PersonID: ines, Name: "harbour", Kind: "binary"}), fault.Exists)
	require.NoError(t, s.AddArtifact(ctx, &Artifact{CaseID: swell, PersonID: ines, Name: "harbour", Kind: "binary"}))
	list, err := s.ArtifactsOf(ctx, fog)
	require.NoError(t, err)
	assert.Equal(t, []string{"harbour.debug by Ines", "harbour by Ines"}, names(list, func(a Artifact) string { return a.Name + " by " + a.Person.Name }))
	a, err := s.ArtifactByName(ctx, fog, "harbour")
	require.NoError(t, err)
	assert.Equal(t, "b-harbour", a.BuildID)
	_, err = s.ArtifactByName(ctx, swell, "harbour.debug")
	require.ErrorIs(t, err, fault.NotFound)
}

// Checkpoints of two cases under random additions, changes, switches and deletions are those
// of a plain list.
func TestCheckpoints(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	cases := []int64{s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)}
	want := map[int64]Checkpoint{}
	r := rand.New(rand.NewPCG(3, 5))
	pick := func(c int64) (int64, bool) {
		var ids []int64
		for id, x := range want {
			if x.CaseID == c {
				ids = append(ids, id)
			}
		}
		if len(ids) == 0 {
			return 0, false
		}
		slices.Sort(ids)
		return ids[r.IntN(len(ids))], true
	}
	for range 200 {
		c := cases[r.IntN(2)]
		switch r.IntN(12) {
		default:
			x := Checkpoint{CaseID: c, PersonID: ines, File: fmt.Sprintf("f%d.go", r.IntN(3)), Line: r.IntN(20), Kind: "line", Enabled: r.IntN(2) == 0, Show: []string{"a", "b.c"}[:r.IntN(3)]}
			require.NoError(t, s.AddCheckpoint(ctx, &x))
			require.NotContains(t, want, x.ID)
			want[x.ID] = x
		case 0, 1:
			if id, ok := pick(c); ok {
				x, err := s.ChangeCheckpoint(ctx, c, Everybody, id, func(x *Checkpoint) error {
					x.Condition, x.Listing = fmt.Sprint("n > ", r.IntN(9)), r.IntN(2) == 0
					return nil
				})
				require.NoError(t, err)
				want[id] = x
			}
		case 2, 3:
			if id, ok := pick(c); ok {
				require.ErrorIs(t, s.DeleteCheckpoint(ctx, cases[0]+cases[1]-c, id), fault.NotFound, "of another case")
				require.NoError(t, s.DeleteCheckpoint(ctx, c, id))
				require.ErrorIs(t, s.DeleteCheckpoint(ctx, c, id), fault.NotFound)
				_, err := s.ChangeCheckpoint(ctx, c, Everybody, id, func(*Checkpoint) error { return nil })
				require.ErrorIs(t, err, fault.NotFound, "a change does not bring it back")
				_, err = s.CheckpointByID(ctx, c, Everybody, id)
				require.ErrorIs(t, err, fault.NotFound)
				delete(want, id)
			}
		case 4:
			on := r.IntN(2) == 0
			require.NoError(t, s.SwitchCheckpoints(ctx, c, Everybody, on))
			for id, x := range want {
				if x.CaseID == c {
					x.Enabled = on
					want[id] = x
				}
			}
		case 5:
			if r.IntN(4) == 0 {
				require.NoError(t, s.DeleteCheckpoints(ctx, c, Everybody))
				for id, x := range want {
					if x.CaseID == c {
						delete(want, id)
					}
				}
			}
		}
		for _, c := range cases {
			list, err := s.CheckpointsOf(ctx, c, Everybody)
			require.NoError(t, err)
			var expected []Checkpoint
			for _, x := range want {
				if x.CaseID == c {
					expected = append(expected, x)
				}
			}
			slices.SortFunc(expected, func(a, b Checkpoint) int {
				return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.ID, b.ID))
			})
			require.Len(t, list, len(expected))
			for i, got := range list {
				require.Equal(t, expected[i].ID, got.ID, "sorted by place")
				require.Equal(t, expected[i].Condition, got.Condition)
				require.Equal(t, expected[i].Enabled, got.Enabled)
				require.Equal(t, expected[i].Listing, got.Listing)
				require.ElementsMatch(t, expected[i].Show, got.Show)
				require.Equal(t, "Ines", got.Person.Name)
				require.WithinDuration(t, expected[i].CreatedAt, got.CreatedAt, time.Millisecond)
			}
		}
	}
}

// People who open the sitting of the same evidence at once are in the same one, and each move has
// its own version.
func TestSittings(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog := s.openCase(t, "fog", ines)
	e := s.evidence(t, fog, ines, Evidence{Name: "run"})
	var all sync.WaitGroup
	ids := make([]int64, 8)
	for i := range ids {
		all.Go(func() {
			x, err := s.OpenSitting(ctx, Sitting{CaseID: fog, EvidenceID: e.ID, Moment: 1 << 40, Thread: 1<<32 - 1, Frame: 2})
			assert.NoError(t, err)
			assert.EqualValues(t, 1<<40, x.Moment)
			assert.EqualValues(t, 1<<32-1, x.Thread)
			assert.EqualValues(t, 1, x.Version)
			assert.Equal(t, "fog", x.Case.Name)
			assert.Equal(t, "run", x.Evidence.Name)
			ids[i] = x.ID
		})
	}
	all.Wait()
	assert.Len(t, slices.Compact(ids), 1)
	versions := make([]int64, 20)
	for i := range versions {
		all.Go(func() {
			var err error
			versions[i], err = s.MoveSitting(ctx, SittingStep{SittingID: ids[0], PersonID: ines, Kind: "move", Moment: int64(i), Thread: 5, Frame: i}, 0)
			assert.NoError(t, err)
		})
	}
	all.Wait()
	last := slices.Index(versions, slices.Max(versions))
	slices.Sort(versions)
	assert.EqualValues(t, 2, versions[0])
	assert.Len(t, slices.Compact(versions), 20)
	x, err := s.SittingByID(ctx, ids[0])
	require.NoError(t, err)
	assert.EqualValues(t, 21, x.Version)
	assert.EqualValues(t, last, x.Moment, "the last move counts")
	assert.Equal(t, last, x.Frame)
	assert.Equal(t, "run", x.Evidence.Name)
	_, err = s.MoveSitting(ctx, SittingStep{SittingID: ids[0], PersonID: ines, Kind: "move"}, 20)
	require.ErrorIs(t, err, fault.SittingMoved)
	steps, err := s.StepsOf(ctx, ids[0], Page{Most: 100})
	require.NoError(t, err)
	assert.Len(t, steps, 20, "a step for each move that counts")
	assert.Equal(t, "Ines", steps[0].Person.Name)
	_, err = s.SittingByID(ctx, 4711)
	require.ErrorIs(t, err, fault.NotFound)
}

func TestCustody(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	for i := range 5 {
		require.NoError(t, s.Note(ctx, fog, ines, fmt.Sprint("looked ", i)))
	}
	require.NoError(t, s.Note(ctx, swell, ines, "looked elsewhere"))
	list, err := s.CustodyOf(ctx, fog, CustodyPage{Most: 3})
	require.NoError(t, err)
	next, err := s.CustodyOf(ctx, fog, CustodyPage{Before: list[2].Number, Most: 2})
	require.NoError(t, err)
	assert.Equal(t, []string{"looked 1", "looked 0"}, names(next, func(c Custody) string { return c.What }))
	assert.Equal(t, []string{"Ines looked 4", "Ines looked 3", "Ines looked 2"}, names(list, func(c Custody) string { return c.By + " " + c.What }))
	assert.WithinDuration(t, time.Now(), list[0].At, time.Minute)
}

// A record from before its entries were proved is a chain after the migration, of the same hashes that Go computes.
func TestOlderRecordIsChained(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	pool, err := pgxpool.New(t.Context(), database)
	require.NoError(t, err)
	defer pool.Close()
	before := &Store{Pool: pool}
	provider, closeAll, err := before.migrations()
	require.NoError(t, err)
	_, err = provider.UpTo(t.Context(), 17)
	require.NoError(t, err)
	closeAll()
	_, err = pool.Exec(t.Context(), `insert into people (name, password_hash, created_at) values ('Ines', '', now()), ('Tomás', '', now());
		insert into cases_all (name, title, created_at) values ('fog', '', now()), ('swell', '', now());
		insert into custody (case_id, person_id, at, what) values (1, 1, '1969-12-31T23:59:59.999999Z', 'opened'), (2, 2, now(), E'closed: 50% "fog"\n\\n — ébb'), (1, 2, '2026-02-28T06:00:00.000001+05:45', '')`)
	require.NoError(t, err)
	s, err := Open(t.Context(), database, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer s.Close()
	for record, want := range map[int64]int{1: 2, 2: 1, OfService: 0} {
		chain := custody.Chain{Record: record}
		for e, err := range s.AllCustody(t.Context(), record) {
			require.NoError(t, err)
			require.NoError(t, chain.Add(e))
		}
		assert.Equal(t, int64(want), chain.Number)
	}
	signed := 0
	_, err = s.SignDue(t.Context(), func(heads []custody.Head) error { signed = len(heads); return nil })
	require.NoError(t, err)
	assert.Equal(t, 2, signed)
}

func TestSessions(t *testing.T) {
	t.Parallel()
	s := open(t)
	ines, tomas := s.person(t, "Ines"), s.person(t, "Tomas")
	require.NoError(t, s.SaveSession(Session{Token: "valid", Data: []byte("one"), Expiry: time.Now().Add(time.Hour)}))
	require.NoError(t, s.SaveSession(Session{Token: "over", Data: []byte("two"), Expiry: time.Now().Add(-time.Second)}))
	data, found, err := s.FindSession("valid")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "one", string(data))
	for _, token := range []string{"over", "unknown"} {
		_, found, err = s.FindSession(token)
		require.NoError(t, err)
		assert.False(t, found, token)
	}
	require.NoError(t, s.SaveSession(Session{Token: "valid", Data: []byte("three"), Expiry: time.Now().Add(time.Hour), PersonID: &ines}))
	data, _, err = s.FindSession("valid")
	require.NoError(t, err)
	assert.Equal(t, "three", string(data))
	require.NoError(t, s.DeleteSession("valid"))
	_, found, err = s.FindSession("valid")
	require.NoError(t, err)
	assert.False(t, found)

	// Sessions are of a person, who can end one, or all; a new password ends all but one.
	ctx := t.Context()
	for _, token := range []string{"a", "b", "c", "d"} {
		require.NoError(t, s.SaveSession(Session{Token: token, Data: []byte{0}, Expiry: time.Now().Add(time.Hour), PersonID: &ines}))
	}
	require.NoError(t, s.SaveSession(Session{Token: "e", Data: []byte{0}, Expiry: time.Now().Add(time.Hour), PersonID: &tomas}))
	left := func() (tokens []string) {
		for _, token := range []string{"a", "b", "c", "d", "e"} {
			if _, found, _ := s.FindSession(token); found {
				tokens = append(tokens, token)
			}
		}
		return tokens
	}
	list, err := s.SessionsOf(ctx, ines)
	require.NoError(t, err)
	require.Len(t, list, 4)
	assert.Equal(t, "d", list[0].Token, "the last used first")
	require.ErrorIs(t, s.EndSessions(ctx, tomas, list[0].ID), fault.NotFound, "somebody else's")
	require.NoError(t, s.EndSessions(ctx, ines, list[0].ID))
	assert.Equal(t, []string{"a", "b", "c", "e"}, left())
	require.NoError(t, s.SetPassword(ctx, ines, "new", "b"))
	assert.Equal(t, []string{"b", "e"}, left())
	require.NoError(t, s.EndSessions(ctx, ines, 0))
	assert.Equal(t, []string{"e"}, left())
}

func TestSenders(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	for _, label := range []string{"pilotd", "harbour"} {
		require.NoError(t, s.AddSender(ctx, &Sender{CaseID: fog, PersonID: ines, Label: label, SecretHash: []byte(label)}))
	}
	require.ErrorIs(t, s.AddSender(ctx, &Sender{CaseID: fog, PersonID: ines, Label: "x", SecretHash: []byte("pilotd")}), fault.Exists, "the same secret")
	list, err := s.SendersOf(ctx, fog)
	require.NoError(t, err)
	assert.Equal(t, []string{"harbour by Ines", "pilotd by Ines"}, names(list, func(x Sender) string { return x.Label + " by " + x.Person.Name }))
	x, err := s.SenderByToken(ctx, []byte("pilotd"))
	require.NoError(t, err)
	assert.Equal(t, fog, x.CaseID)
	require.ErrorIs(t, s.DeleteSender(ctx, swell, x.ID), fault.NotFound, "of another case")
	require.NoError(t, s.DeleteSender(ctx, fog, x.ID))
	_, err = s.SenderByToken(ctx, []byte("pilotd"))
	require.ErrorIs(t, err, fault.NotFound)
	_, err = s.SenderByToken(ctx, []byte("harbour"))
	require.NoError(t, err)
}

// Statements are logged at debug level, without the values in them.
func TestStatementsAreLoggedWithoutValues(t *testing.T) {
	t.Parallel()
	for level, logged := range map[slog.Level]bool{slog.LevelDebug: true, slog.LevelInfo: false} {
		var out strings.Builder
		s, err := Open(t.Context(), clustertest.Database(t), slog.New(slog.NewTextHandler(&out, &slog.HandlerOptions{Level: level})))
		require.NoError(t, err)
		_, err = s.PersonByName(t.Context(), "a-secret-name")
		require.ErrorIs(t, err, fault.NotFound)
		s.Close()
		assert.Equal(t, logged, strings.Contains(out.String(), "people"), out.String())
		assert.NotContains(t, out.String(), "a-secret-name")
	}
}

// Lists that are read in pages of any size are the whole lists in their order, also when what ended a page is deleted meanwhile; a text finds what has it.
func TestPages(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas := s.person(t, "Ines"), s.person(t, "Tomas")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	for i := range 23 {
		e := s.evidence(t, fog, ines, Evidence{Name: fmt.Sprintf("run-%d", i), Program: []string{"pilotd", "berth%d"}[i%2]})
		_, err := s.Pool.Exec(ctx, "update evidence_all set uploaded_at = '2026-03-01' where id = $1 and id % 3 > 0", e.ID) // many at one time
		require.NoError(t, err)
		require.NoError(t, s.AddArtifact(ctx, &Artifact{CaseID: fog, PersonID: ines, Name: fmt.Sprintf("binary-%d", i), Kind: "binary", SHA256: "ab"}))
		x := Checkpoint{CaseID: fog, PersonID: []int64{ines, tomas}[i%2], Kind: "line", File: fmt.Sprintf("f%d.go", i%4), Line: i % 3, IsPrivate: i%5 == 0, Show: []string{}}
		require.NoError(t, s.AddCheckpoint(ctx, &x))
	}
	s.evidence(t, swell, ines, Evidence{Name: "other"})
	id := func(c Checkpoint) string { return fmt.Sprint(c.ID) }
	for size := 1; size < 26; size += 4 {
		evidence, err := s.EvidenceOf(ctx, fog)
		require.NoError(t, err)
		assert.Equal(t, names(evidence, func(e Evidence) string { return e.Name }), pages(t, size, func(p ListPage) ([]Evidence, error) { return s.PageOfEvidence(ctx, fog, p) }, func(e Evidence) string { return e.Name }))
		artifacts, err := s.ArtifactsOf(ctx, fog)
		require.NoError(t, err)
		assert.Equal(t, names(artifacts, func(a Artifact) string { return a.Name }), pages(t, size, func(p ListPage) ([]Artifact, error) { return s.PageOfArtifacts(ctx, fog, p) }, func(a Artifact) string { return a.Name }))
		checkpoints, err := s.CheckpointsOf(ctx, fog, ines)
		require.NoError(t, err)
		assert.Equal(t, names(checkpoints, id), pages(t, size, func(p ListPage) ([]Checkpoint, error) { return s.PageOfCheckpoints(ctx, fog, ines, p) }, id))
	}
	all, err := s.PageOfEvidence(ctx, fog, ListPage{Most: 100})
	require.NoError(t, err)
	before, err := s.PageOfEvidence(ctx, fog, ListPage{After: all[5].Name, Most: 3})
	require.NoError(t, err)
	require.NoError(t, s.Delete(ctx, KindEvidence, fog, all[5].Name, ines))
	after, err := s.PageOfEvidence(ctx, fog, ListPage{After: all[5].Name, Most: 3})
	require.NoError(t, err)
	assert.Equal(t, before, after)
	_, err = s.PageOfEvidence(ctx, fog, ListPage{After: "other", Most: 3})
	require.ErrorIs(t, err, fault.NotFound)
	_, err = s.PageOfCheckpoints(ctx, fog, ines, ListPage{After: "x", Most: 3})
	require.ErrorIs(t, err, fault.NotFound)
	found, err := s.PageOfEvidence(ctx, fog, ListPage{Text: "PILOTD", Most: 100})
	require.NoError(t, err)
	for _, e := range found {
		assert.Equal(t, "pilotd", e.Program)
	}
	assert.Len(t, found, 11+map[bool]int{true: 1}[all[5].Program != "pilotd"])
	found, err = s.PageOfEvidence(ctx, fog, ListPage{Text: "h%d", Most: 100})
	require.NoError(t, err)
	assert.NotEmpty(t, found)
	for _, e := range found {
		assert.Equal(t, "berth%d", e.Program)
	}
}

// pages reads a list in pages of a size.
func pages[T any](t *testing.T, size int, page func(ListPage) ([]T, error), name func(T) string) (list []string) {
	p := ListPage{Most: size}
	for {
		some, err := page(p)
		require.NoError(t, err)
		list = append(list, names(some, name)...)
		if len(some) < size {
			return list
		}
		p.After = name(some[len(some)-1])
	}
}
