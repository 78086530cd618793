package locator_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/locator"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]locator.Locator{
		"run.wraith":             {Evidence: "run.wraith", Moment: event.NoMoment},
		"run.wraith@4711":        {Evidence: "run.wraith", Moment: 4711},
		"run.wraith@4711#1.2":    {Evidence: "run.wraith", Moment: 4711, Thread: 1, Frame: 2},
		"run.wraith@4711#1.0":    {Evidence: "run.wraith", Moment: 4711, Thread: 1, Frame: 0},
		"run.wraith#4294967295":  {Evidence: "run.wraith", Moment: event.NoMoment, Thread: 4294967295},
		"case/name@0#12":         {Evidence: "case/name", Moment: 0, Thread: 12},
		"case/name#3.1":          {Evidence: "case/name", Moment: event.NoMoment, Thread: 3, Frame: 1},
		"/srv/me@harbour/r.w@17": {Evidence: "/srv/me@harbour/r.w", Moment: 17},
		"/srv/me@harbour/r.w":    {Evidence: "/srv/me@harbour/r.w", Moment: event.NoMoment},
	} {
		got, err := locator.Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "@4", "#1", "r@x", "r@-3", "r@4#0", "r@4#x", "r@4#1.x", "r@4#1.-2", "r@4#1.-1", "r@4#4294967296", "r@9223372036854775808", "r@4#"} {
		_, err := locator.Parse(text)
		require.ErrorIs(t, err, fault.InvalidLocator, text)
	}
}

func FuzzLocator(f *testing.F) {
	f.Add("run.wraith@4711#1.2")
	f.Fuzz(func(t *testing.T, text string) {
		l, err := locator.Parse(text)
		if err != nil {
			return
		}
		again, err := locator.Parse(l.String())
		require.NoError(t, err)
		assert.Equal(t, l, again)
	})
}
