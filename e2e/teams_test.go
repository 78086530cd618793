package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
)

// People join cases and teams by links: those with an account, and those without one where an administrator allows that. Each change is in the record of
// the case.
func TestJoining(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	odile := person{name: "Odile", config: filepath.Join(t.TempDir(), "odile.json")}
	s := start(t, ines, tomas)
	ines.signIn(t, s.url)
	tomas.signIn(t, s.url)
	link := func(p person, args ...string) string {
		t.Helper()
		lines := strings.Split(strings.TrimSpace(p.fine(t, args...)), "\n")
		return lines[len(lines)-1]
	}
	ines.fine(t, "case", "open", "fog")
	ines.fine(t, "case", "open", "swell")
	ines.fine(t, "team", "new", "watch")
	ines.fine(t, "case", "teams", "swell", "--add", "watch")

	to := link(ines, "case", "invite", "fog", "--role", "viewer")
	assert.True(t, strings.HasPrefix(to, s.url+"/join#"), to)
	assert.Equal(t, "you are viewer of case fog: fog\n  its evidence: wraith evidence fog\n", tomas.fine(t, "join", to))
	assert.Equal(t, 1, odile.wraith(t, "curlew-bank-9\n", "join", to, "--new-account", "Odile").code, "it is used up")
	to = link(ines, "case", "invite", "fog", "--role", "viewer")
	r := odile.wraith(t, "curlew-bank-9\n", "join", to, "--new-account", "Odile")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "people who have an account")
	assert.Equal(t, 1, tomas.wraith(t, "", "case", "invite", "fog").code, "a viewer invites nobody")
	tomas.fine(t, "case", "open", "own")
	r = tomas.wraith(t, "", "case", "invite", "own", "--accounts")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "administrator")

	to = link(ines, "team", "invite", "watch", "--accounts", "--places", "2", "--unmask")
	assert.Equal(t, 2, odile.wraith(t, "short\n", "join", to, "--new-account", "Odile").code, "a weak password")
	assert.Equal(t, 2, odile.wraith(t, "curlew-bank-9\n", "join", to, "--new-account", "Tomas").code, "somebody else's name")
	r = odile.wraith(t, "curlew-bank-9\n", "join", to, "--new-account", "Odile")
	require.Zero(t, r.code, r.err)
	assert.Equal(t, "you are member of team watch\n  its cases: wraith case\n", r.out)
	assert.Contains(t, odile.fine(t, "case"), "swell", "she is signed in, and in the team's case")
	assert.NotContains(t, odile.fine(t, "case"), "fog")
	tomas.fine(t, "join", to)
	assert.Equal(t, 1, odile.wraith(t, "curlew-bank-9\n", "join", to, "--new-account", "Odile2").code, "its two places are taken")
	list := ines.fine(t, "case", "custody", "swell")
	for _, entry := range []string{"made Odile member of the case, by team watch", "made Tomas member of the case, by team watch", "added team watch to the case: 1 of its people"} {
		assert.Contains(t, list, entry)
	}
	assert.Contains(t, ines.fine(t, "case", "custody", "fog"), "joined the case as viewer, by invitation 1 of Ines")

	// Whoever leaves the team is not in its case any more.
	ines.fine(t, "team", "remove", "watch", "Odile")
	assert.NotContains(t, odile.fine(t, "case"), "swell")
	var members []api.Member
	require.NoError(t, json.Unmarshal([]byte(ines.fine(t, "case", "members", "swell", "--json")), &members))
	assert.Equal(t, []api.Member{{Name: "Ines", Role: api.RoleLead, Unmasks: true, Teams: []string{"watch"}}, {Name: "Tomas", Role: api.RoleMember, Unmasks: true, Teams: []string{"watch"}}}, members)
}
