package jobs

import (
	"bytes"
	"context"
	"log/slog"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/replay"
	"wraithology/e2e/clustertest"
	"wraithology/service/hooks"
	"wraithology/service/notices"
	"wraithology/service/recordings"
	"wraithology/service/store"
	"wraithology/service/vault"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// parts are a store and a vault with one case, without a queue yet.
type parts struct {
	store  *store.Store
	vault  *vault.Vault
	open   *recordings.Recordings
	caseID int64
	person int64
}

func open(t *testing.T) *parts {
	ctx := t.Context()
	s, err := store.Open(ctx, clustertest.Database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	v, err := vault.Open(t.TempDir())
	require.NoError(t, err)
	p := store.Person{Name: "Ines"}
	require.NoError(t, s.AddPerson(ctx, &p))
	c := store.Case{Name: "fog"}
	require.NoError(t, s.AddCase(ctx, &c, p.ID))
	return &parts{s, v, recordings.New(t.TempDir(), 0, s, v), c.ID, p.ID}
}

// add stores evidence that waits for being indexed.
func (p *parts) add(t *testing.T, name, text string, state string) int64 {
	stored, err := p.vault.Put(t.Context(), strings.NewReader(text))
	require.NoError(t, err)
	e := store.Evidence{CaseID: p.caseID, PersonID: p.person, Name: name, State: state, SHA256: stored.SHA256, Bytes: stored.Bytes}
	require.NoError(t, p.store.AddEvidence(t.Context(), &e))
	return e.ID
}

func (p *parts) start(t *testing.T) *Jobs {
	j, err := Start(t.Context(), p.store, p.vault, p.open, notices.New(p.store, notices.Options{Hooks: hooks.New(nil)}), DefaultKept, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		assert.NoError(t, j.Stop(ctx))
	})
	return j
}

func (p *parts) await(t *testing.T, id int64, state string) store.Evidence {
	var e store.Evidence
	require.Eventually(t, func() bool {
		var err error
		e, err = p.store.EvidenceByID(context.Background(), id)
		return err == nil && e.State == state
	}, 30*time.Second, 50*time.Millisecond)
	return e
}

const crash = "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\n"

// What was waiting when the service stopped is indexed at the next start, and what arrives
// later too.
func TestIndexing(t *testing.T) {
	t.Parallel()
	p := open(t)
	waiting := p.add(t, "waiting", crash, api.StateIndexing)
	done := p.add(t, "done", crash, api.StateReady)
	j := p.start(t)
	e := p.await(t, waiting, api.StateReady)
	assert.Equal(t, "crash-text", e.Kind)
	assert.Equal(t, "panic: fog", e.Outcome)
	assert.Equal(t, 1.0, e.Progress)
	assert.EqualValues(t, 1, e.Moments)
	assert.NotEmpty(t, e.Fingerprint)
	assert.Empty(t, e.Trouble)

	// A log has no failure of a program, and so no fingerprint.
	log := p.add(t, "log", strings.Repeat(`{"time":"2026-03-01T06:00:00Z","level":"info","msg":"berth free","berth":3}`+"\n", 50), api.StateIndexing)
	require.NoError(t, j.Index(t.Context(), store.Evidence{ID: log}))
	e = p.await(t, log, api.StateReady)
	assert.Equal(t, "structured-log", e.Kind)
	assert.EqualValues(t, 52, e.Moments, "the records, between begin and end")
	assert.Equal(t, time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC), e.Started.UTC())

	// What is ready is left alone.
	require.NoError(t, j.Index(t.Context(), store.Evidence{ID: done}))
	require.NoError(t, j.Index(t.Context(), store.Evidence{ID: 4711}))
	again := p.add(t, "again", crash, api.StateIndexing)
	require.NoError(t, j.Index(t.Context(), store.Evidence{ID: again}))
	p.await(t, again, api.StateReady)
	e, err := p.store.EvidenceByID(t.Context(), done)
	require.NoError(t, err)
	assert.Empty(t, e.Outcome)
}

// Evidence that cannot be read is a result: it says why, and is not tried again.
func TestUnreadable(t *testing.T) {
	t.Parallel()
	p := open(t)
	noise := bytes.Repeat([]byte{0}, 4096)
	r := rand.New(rand.NewPCG(1, 1))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	id := p.add(t, "noise", string(noise), api.StateIndexing)
	p.start(t)
	e := p.await(t, id, api.StateFailed)
	assert.NotEmpty(t, e.Trouble)
	assert.Equal(t, "cannot be read", e.Outcome)
}

// For lack of disk the queue tries again, and says meanwhile what is missing; it is not a property of the evidence.
func TestIndexingForLackOfDisk(t *testing.T) {
	t.Parallel()
	p := open(t)
	id := p.add(t, "run", crash, api.StateIndexing)
	e, err := p.store.EvidenceByID(t.Context(), id)
	require.NoError(t, err)
	bytes, hidden := p.vault.Path(e.SHA256), p.vault.Path(e.SHA256)+"-away"
	require.NoError(t, os.Rename(bytes, hidden))
	j := p.start(t)
	require.Eventually(t, func() bool {
		e, err = p.store.EvidenceByID(context.Background(), id)
		return err == nil && e.Trouble != ""
	}, 30*time.Second, 50*time.Millisecond)
	assert.Equal(t, api.StateIndexing, e.State, e.Trouble)
	require.NoError(t, os.Rename(hidden, bytes))
	again, err := p.store.IndexOneAgain(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, j.Index(t.Context(), again))
	e = p.await(t, id, api.StateReady)
	assert.Empty(t, e.Trouble)
}

// The outcome names the failure with its kind once, and where it began.
func TestDescribe(t *testing.T) {
	t.Parallel()
	started := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	cause := func(kind, message string) replay.Cause { return replay.Cause{Type: kind, Message: message} }
	for want, info := range map[string]replay.Info{
		"ended without a failure": {},
		"panic: fog":              {Failure: &replay.Failure{Kind: "panic", Summary: "fog"}},
		"error: swell":            {Failure: &replay.Failure{Kind: "error", Summary: "error: swell"}},
		"error: no berth; because of TideError: too low": {Failure: &replay.Failure{Kind: "error", Summary: "no berth", Causes: []replay.Cause{cause("A", "no berth"), cause("B", "x"), cause("TideError", "too low")}}},
		"error: no berth; because of too low":            {Failure: &replay.Failure{Kind: "error", Summary: "no berth", Causes: []replay.Cause{cause("A", "no berth"), cause("", "too low")}}},
		"error: alone":                                   {Failure: &replay.Failure{Kind: "error", Summary: "alone", Causes: []replay.Cause{cause("A", "alone")}}},
		"not known: the last write was cut off":          {Gaps: []replay.Gap{{What: "a thread is missing"}, {What: "the last write was cut off"}}},
	} {
		info.Kind, info.Program, info.BuildID, info.Host, info.Started, info.Duration, info.Moments = "execution-log", "berthing", "b1", "quay", started, 5*time.Second, 1<<33
		e := store.Evidence{State: api.StateIndexing, Progress: 0.5}
		describe(&e, info)
		assert.Equal(t, store.Evidence{State: api.StateReady, Progress: 1, Kind: "execution-log", Program: "berthing", BuildID: "b1", Host: "quay", Started: started,
			DurationNs: 5e9, Moments: 1 << 33, Gaps: len(info.Gaps), Outcome: want}, e)
	}
}
