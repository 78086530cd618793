package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// Whatever is deleted, restored, added and purged, in any order: what is there is what a list of our own says.
func TestDeletedAndRestored(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines := s.person(t, "Ines")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	type key struct {
		kind string
		of   int64
		name string
	}
	there := map[key]bool{}
	gone := map[key]int{} // how many of a name can be restored
	add := func(k key) error {
		if k.kind == KindArtifact {
			return s.AddArtifact(ctx, &Artifact{CaseID: k.of, Name: k.name, Kind: "binary", SHA256: "00", PersonID: ines})
		}
		return s.AddEvidence(ctx, &Evidence{CaseID: k.of, Name: k.name, State: "ready", SHA256: "00", PersonID: ines})
	}
	r := rand.New(rand.NewPCG(4, 4))
	for step := range 300 {
		k := key{[]string{KindEvidence, KindArtifact}[r.IntN(2)], []int64{fog, swell}[r.IntN(2)], fmt.Sprint("n", r.IntN(3))}
		at := fmt.Sprint(step, " ", k)
		switch r.IntN(7) {
		case 0, 1, 2:
			if err := add(k); there[k] {
				require.ErrorIs(t, err, fault.Exists, at)
			} else {
				require.NoError(t, err, at)
				there[k] = true
			}
		case 3, 4:
			err := s.Delete(ctx, k.kind, k.of, k.name, ines)
			if !there[k] {
				require.ErrorIs(t, err, fault.NotFound, at)
				break
			}
			require.NoError(t, err, at)
			there[k] = false
			gone[k]++
		case 5:
			err := s.RestoreDeleted(ctx, k.kind, k.of, k.name)
			switch {
			case gone[k] == 0:
				require.ErrorIs(t, err, fault.NotFound, at)
			case there[k]:
				require.ErrorIs(t, err, fault.Exists, at)
			default:
				require.NoError(t, err, at)
				there[k] = true
				gone[k]--
			}
		case 6:
			if r.IntN(10) == 0 {
				require.NoError(t, s.Purge(ctx, time.Now().Add(time.Minute)))
				clear(gone)
			}
		}
		for _, of := range []int64{fog, swell} {
			var got, want []string
			evidence, err := s.EvidenceOf(ctx, of)
			require.NoError(t, err)
			for _, e := range evidence {
				got = append(got, KindEvidence+e.Name)
			}
			artifacts, err := s.ArtifactsOf(ctx, of)
			require.NoError(t, err)
			for _, x := range artifacts {
				got = append(got, KindArtifact+x.Name)
			}
			deleted, err := s.DeletedOf(ctx, of)
			require.NoError(t, err)
			for _, x := range deleted {
				got = append(got, "deleted "+x.Kind+x.Name+x.DeletedBy)
			}
			for k, is := range there {
				if is && k.of == of {
					want = append(want, k.kind+k.name)
				}
			}
			for k, n := range gone {
				for range n {
					if k.of == of {
						want = append(want, "deleted "+k.kind+k.name+"Ines")
					}
				}
			}
			slices.Sort(got)
			slices.Sort(want)
			require.Equal(t, want, got, at)
		}
	}
}

// A case that is deleted is as if it were not there; a lead restores it with all that it had. Its evidence goes by its own rule, and what is gone for good
// frees its bytes.
func TestDeletedCases(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas := s.person(t, "Ines"), s.person(t, "Tomas")
	fog := s.openCase(t, "fog", ines)
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "member"}))
	e := s.evidence(t, fog, ines, Evidence{Name: "run"})
	x := Exhibit{CaseID: fog, EvidenceID: e.ID, PersonID: ines, Question: "ask", Request: "{}", Answer: "{}"}
	require.NoError(t, s.AddExhibit(ctx, &x))
	require.NoError(t, s.DeleteCase(ctx, fog, ines))
	require.ErrorIs(t, s.DeleteCase(ctx, fog, ines), fault.NotFound)
	_, _, err := s.CaseFor(ctx, "fog", ines)
	require.ErrorIs(t, err, fault.NotFound)
	list, err := s.FindCases(ctx, ines, CaseQuery{})
	require.NoError(t, err)
	assert.Empty(t, list)
	other := s.openCase(t, "fog", ines)
	_, err = s.RestoreCase(ctx, "fog", tomas)
	require.ErrorIs(t, err, fault.NotFound, "no lead of it")
	_, err = s.RestoreCase(ctx, "fog", ines)
	require.ErrorIs(t, err, fault.Exists)
	require.NoError(t, s.DeleteCase(ctx, other, tomas))
	_, err = s.Pool.Exec(ctx, "update cases_all set deleted_at = now() - interval '1 hour' where id = $1", other)
	require.NoError(t, err)
	c, err := s.RestoreCase(ctx, "fog", ines)
	require.NoError(t, err)
	assert.Equal(t, fog, c.ID)

	// What is said about deleted evidence stays, with its name.
	require.NoError(t, s.Delete(ctx, KindEvidence, fog, "run", ines))
	kept, err := s.ExhibitByNumber(ctx, fog, 1)
	require.NoError(t, err)
	assert.Equal(t, "run", kept.Evidence.Name)
	require.NoError(t, s.RestoreDeleted(ctx, KindEvidence, fog, "run"))

	require.NoError(t, s.Retain(ctx, fog, 30, ines))
	require.NoError(t, s.DeleteOld(ctx))
	_, err = s.EvidenceByName(ctx, fog, "run")
	require.NoError(t, err)
	_, err = s.Pool.Exec(ctx, "update evidence set uploaded_at = now() - interval '31 days' where id = $1", e.ID)
	require.NoError(t, err)
	require.NoError(t, s.DeleteOld(ctx))
	require.NoError(t, s.DeleteOld(ctx))
	_, err = s.EvidenceByName(ctx, fog, "run")
	require.ErrorIs(t, err, fault.NotFound)
	notes := func() []string {
		list, err := s.CustodyOf(ctx, fog, CustodyPage{Most: 10})
		require.NoError(t, err)
		return names(list, func(c Custody) string { return c.By + " " + c.What })
	}
	assert.Equal(t, []string{"Ines deleted run: the case keeps evidence for 30 days"}, notes())

	has := func() bool {
		got, err := s.HasBytes(context.Background(), []string{e.SHA256, "11"})
		require.NoError(t, err)
		return got[e.SHA256]
	}
	require.NoError(t, s.Purge(ctx, time.Now().Add(-time.Hour)))
	assert.True(t, has(), "it can still be restored")
	require.NoError(t, s.Purge(ctx, time.Now().Add(time.Hour)))
	assert.False(t, has())
	assert.Contains(t, notes()[0], "the evidence run, deleted ")
	_, err = s.ExhibitByNumber(ctx, fog, 1)
	require.ErrorIs(t, err, fault.NotFound)
	require.NoError(t, s.HasCase(ctx, fog))
}
