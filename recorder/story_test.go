package recorder_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/replay"
)

// told writes the steps of a story for comparison.
func told(s replay.Story) []string {
	var out []string
	for _, x := range s.Page {
		text := fmt.Sprint(x.Life, " ", x.What, " ", x.Name)
		if x.Old != nil && x.New != nil {
			text += " " + x.Old.Text() + " -> " + x.New.Text()
		}
		if x.Times > 1 {
			text += fmt.Sprint(" x", x.Times)
		}
		out = append(out, text)
	}
	return out
}

// The life of an object that comes out of a pool, goes through containers, calls and a channel, and is used again; and that of
// an identifier, which another object has afterwards.
func TestStories(t *testing.T) {
	t.Parallel()
	const dir = "testdata/moorings"
	ran := record(t, dir, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	ctx := context.Background()
	teller := r.(replay.Teller)
	story, err := teller.StoryOfObject(ctx, "a", atMark(t, r, dir, "end"), 1, 0, replay.Page{Count: 100})
	require.NoError(t, err)
	assert.Equal(t, 2, story.Lives)
	assert.Equal(t, []string{
		"1 created main.init.func0", "1 returned main.init.func0", `1 changed id "" -> "b-17"`, `1 changed ship "" -> "Tern"`, "1 returned main.assign",
		"1 passed main.(*quay).put(s)", "1 stored c.byID[\"b-17\"]", "1 stored c.last",
		"1 passed main.touch(s)", "1 changed count 0 -> 1", "1 passed main.touch(s)", "1 changed count 1 -> 2", "1 sent work", "1 received work", `1 changed ship "Tern" -> "Kelp"`,
		"1 removed c.byID", "1 stored pool", "2 removed pool", `2 changed id "b-17" -> "b-18"`, `2 changed ship "Kelp" -> "Osprey"`, "2 returned main.assign",
		"2 passed main.(*quay).put(s)", "2 stored c.byID[\"b-18\"]", "2 stored c.last", "2 passed main.touch(s)", "2 changed count 2 -> 3",
	}, told(story))
	assert.Equal(t, len(story.Page), story.Total)

	// Which calls used it, in the life of the place that is asked about only.
	uses := func(path, mark string) (out []string) {
		u, err := teller.UsesOfObject(ctx, path, atMark(t, r, dir, mark), 1, 0, replay.Page{Count: 100})
		require.NoError(t, err)
		assert.Equal(t, u.Total, len(u.Page))
		for _, x := range u.Page {
			out = append(out, fmt.Sprint(x.Function, " ", x.Parameter, " ", x.What, " ", x.Times, map[bool]string{true: " asked"}[x.Asked]))
		}
		return out
	}
	assert.Equal(t, []string{"main.assign  [removed changed returned] 4", "main.(*quay).put s [passed stored] 3", "main.touch s [passed changed] 2"}, uses("a", "end"))
	assert.Equal(t, []string{"main.main  [sent received changed] 3", "main.assign  [changed returned] 3", "main.init.func0  [created returned] 2", "main.(*quay).put s [passed stored] 3",
		"main.touch s [passed changed] 2 asked", "main.touch s [passed changed] 2", "main.(*quay).drop  [removed stored] 2"}, uses("s", "touched"))

	page, err := teller.StoryOfObject(ctx, "a", atMark(t, r, dir, "end"), 1, 0, replay.Page{From: 2, Count: 3})
	require.NoError(t, err)
	assert.Equal(t, told(story)[2:5], told(page))

	story, err = teller.StoryOfValue(ctx, "b-17", replay.Page{Count: 100})
	require.NoError(t, err)
	assert.Equal(t, []string{"1 passed main.assign(id)", "1 stored s.id", "1 stored c.byID[\"b-17\"], as a key", "1 passed main.(*quay).drop(id)", "1 removed c.byID", `1 removed s.id "b-17" -> "b-18"`}, told(story))

	_, err = teller.StoryOfValue(ctx, "b-99", replay.Page{Count: 100})
	require.Error(t, err)
}
