package custody_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/custody"
	"wraithology/core/fault"
)

// record makes a record of some entries.
func record(r *rand.Rand, of int64, n int) (list []custody.Entry) {
	var before custody.Hash
	for i := range n {
		e := custody.Entry{Number: int64(i + 1), At: time.UnixMicro(r.Int64N(1e15)).UTC(), By: []string{"Ines", "Tomas"}[r.IntN(2)], What: fmt.Sprintf("moved <%d> & \"%d\"", i, r.IntN(3)), IsRead: r.IntN(3) == 0}
		e.Hash = e.Sum(of, before)
		list, before = append(list, e), e.Hash
	}
	return list
}

func each(list []custody.Entry) iter.Seq2[custody.Entry, error] {
	return func(yield func(custody.Entry, error) bool) {
		for _, e := range list {
			if !yield(e, nil) {
				return
			}
		}
	}
}

func written(t *testing.T, key ed25519.PrivateKey, of int64, list []custody.Entry) string {
	t.Helper()
	head := custody.Head{Case: "fog", Service: "gannet", Record: of, At: time.UnixMicro(77).UTC()}
	if len(list) > 0 {
		head.Number, head.Hash = list[len(list)-1].Number, list[len(list)-1].Hash
	}
	var out bytes.Buffer
	require.NoError(t, custody.Write(&out, custody.Header{Head: head.Sign(key), Key: custody.PublicDER(key.Public().(ed25519.PublicKey))}, each(list)))
	return out.String()
}

// Whatever byte of an exported record is changed, line left out, doubled or moved: it is noticed. As it was written it is whole.
func TestExportedRecord(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 1))
		public, key, err := ed25519.GenerateKey(nil)
		require.NoError(t, err)
		list := record(r, 7, 1+r.IntN(12))
		text := written(t, key, 7, list)
		h, changes, err := custody.Verify(strings.NewReader(text), public)
		require.NoError(t, err)
		assert.Equal(t, int64(len(list)), h.Head.Number)
		assert.Equal(t, len(list)-len(slices.DeleteFunc(slices.Clone(list), func(e custody.Entry) bool { return !e.IsRead })), int(changes))
		lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
		check := func(what string, lines []string) {
			t.Helper()
			_, _, err := custody.Verify(strings.NewReader(strings.Join(lines, "")), public)
			assert.ErrorIs(t, err, fault.InvalidCustody, "%s: %v", what, lines)
		}
		for i := range lines {
			check("left out", slices.Delete(slices.Clone(lines), i, i+1))
			if i > 0 {
				check("doubled", slices.Insert(slices.Clone(lines), i, lines[i]))
			}
			if i > 1 {
				swapped := slices.Clone(lines)
				swapped[i-1], swapped[i] = strings.TrimSuffix(swapped[i], "\n")+"\n", swapped[i-1]
				check("moved", swapped)
			}
		}
		for range 200 {
			at := r.IntN(len(text))
			changed := []byte(text)
			changed[at] ^= 1 << r.IntN(5)
			_, _, err := custody.Verify(bytes.NewReader(changed), public)
			if err == nil { // another way to write the same, as a letter of a hash in upper case
				assert.Equal(t, parsed(t, text), parsed(t, string(changed)), "changed %q at %d", text[at], at)
			}
		}
	}
}

// parsed reads an exported record without any checks.
func parsed(t *testing.T, text string) (out []any) {
	t.Helper()
	var h custody.Header
	d := json.NewDecoder(strings.NewReader(text))
	require.NoError(t, d.Decode(&h))
	out = append(out, h)
	for d.More() {
		var e custody.Entry
		require.NoError(t, d.Decode(&e))
		out = append(out, e)
	}
	return out
}

// A record that was made again, with right hashes throughout, does not have the head that was signed; nor does one that was cut off.
func TestSignedHeads(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	list := record(r, 7, 10)
	again := record(r, 7, 10)
	signed := map[int64]custody.Head{6: {Number: 6, Hash: list[5].Hash}}
	follow := func(list []custody.Entry, of int64) error {
		c := custody.Chain{Record: of, Signed: signed}
		for _, e := range list {
			if err := c.Add(e); err != nil {
				return err
			}
		}
		return c.End()
	}
	require.NoError(t, follow(list, 7))
	require.NoError(t, follow(list[:6], 7))
	assert.ErrorContains(t, follow(list[:5], 7), "entries were removed")
	assert.ErrorContains(t, follow(again, 7), "made again")
	assert.ErrorContains(t, follow(list, 8), "another record")
	assert.ErrorContains(t, follow(list[1:], 7), "entries are missing")
}

// A record that somebody else has signed is refused, unless nobody says whose it should be.
func TestKeyOfARecord(t *testing.T) {
	t.Parallel()
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	other, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	text := written(t, key, 1, nil)
	_, _, err = custody.Verify(strings.NewReader(text), nil)
	require.NoError(t, err)
	_, _, err = custody.Verify(strings.NewReader(text), other)
	assert.ErrorIs(t, err, fault.InvalidCustody)
	parsed, err := custody.ParsePublicPEM(custody.PublicPEM(other))
	require.NoError(t, err)
	assert.Equal(t, other, parsed)
	_, err = custody.ParsePublicPEM([]byte("fog"))
	assert.ErrorIs(t, err, fault.InvalidCustody)
}

func FuzzVerify(f *testing.F) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(f, err)
	var out bytes.Buffer
	list := record(rand.New(rand.NewPCG(1, 1)), 7, 3)
	require.NoError(f, custody.Write(&out, custody.Header{Head: custody.Head{Record: 7, Number: 3, Hash: list[2].Hash}.Sign(key), Key: custody.PublicDER(key.Public().(ed25519.PublicKey))}, each(list)))
	f.Add(out.Bytes())
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, _, err := custody.Verify(bytes.NewReader(text), nil); err != nil {
			assert.ErrorIs(t, err, fault.InvalidCustody)
		}
	})
}
