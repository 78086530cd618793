package api

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// A problem says what is wrong, with the parts of a request that are, and is an error of its kind.
func TestProblem(t *testing.T) {
	t.Parallel()
	for want, p := range map[string]Problem{
		"case fog: not found": {Title: "Not Found", Detail: "case fog: not found"},
		"Not Found":           {Title: "Not Found"},
		"validation failed; body.name: too long; too short": {Detail: "validation failed", Errors: []Detail{{"too long", "body.name"}, {"too short", ""}}},
	} {
		p.Type, p.Status, p.Remedy = fault.NotFound.Code, 404, "look elsewhere"
		assert.Equal(t, want, p.Error())
		assert.Equal(t, 404, p.GetStatus())
		assert.Equal(t, "application/problem+json", p.ContentType("application/json"))
		err := p.Fault()
		require.ErrorIs(t, err, fault.NotFound)
		assert.Equal(t, want, err.Error())
		kind, remedy := fault.Of(err)
		assert.Same(t, fault.NotFound, kind)
		assert.Equal(t, "look elsewhere", remedy)
	}
	p := Problem{Type: "of-a-later-version", Status: 429, Detail: "too fast"}
	require.ErrorIs(t, p.Fault(), fault.TooMany, "an unknown code is that of its status")
	b, err := json.Marshal(Problem{Type: "x", Title: "X", Status: 400, Detail: "y"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"type":"x","title":"X","status":400,"detail":"y"}`, string(b))
}

func TestKindOf(t *testing.T) {
	t.Parallel()
	for status, kind := range map[int]*fault.Kind{401: fault.NotSignedIn, 403: fault.PermissionDenied, 404: fault.NotFound, 405: fault.MethodNotAllowed, 413: fault.TooLarge, 429: fault.TooMany,
		400: fault.InvalidRequest, 422: fault.InvalidRequest, 418: fault.InvalidRequest, 500: fault.Unavailable, 502: fault.Unavailable, 503: fault.Unavailable} {
		assert.Same(t, kind, KindOf(status), "%d", status)
	}
}
