package httpapi_test

import (
	"bytes"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/e2e/servicetest"
	"wraithology/service/accounts"
	"wraithology/service/front"
	"wraithology/service/store"
)

// Many who change teams, cases, invitations and accounts at once do not block each other, and are answered; each case is led afterwards.
func TestTeamsAtOnce(t *testing.T) {
	t.Parallel()
	var log bytes.Buffer
	var logging sync.Mutex
	service := servicetest.Start(t, slog.NewTextHandler(lockedWriter{&logging, &log}, &slog.HandlerOptions{Level: slog.LevelError}))
	ctx, records := t.Context(), recordsOf(t, service)
	ines := servicetest.Person(t, service, "Ines") // the administrator
	for i := range 6 {
		p := store.Person{Name: fmt.Sprintf("Pilot%d", i)}
		require.NoError(t, records.AddPerson(ctx, &p))
	}
	for i := range 4 {
		_, err := ines.NewCase(ctx, api.NewCase{Name: fmt.Sprintf("case-%d", i)})
		require.NoError(t, err)
	}
	for i := range 3 {
		_, err := ines.NewTeam(ctx, fmt.Sprintf("team-%d", i))
		require.NoError(t, err)
	}
	var done sync.WaitGroup
	for w := range 8 {
		done.Go(func() {
			rng := rand.New(rand.NewPCG(uint64(w), 16))
			for i := range 40 {
				c, team := fmt.Sprintf("case-%d", rng.IntN(4)), fmt.Sprintf("team-%d", rng.IntN(3))
				person := fmt.Sprintf("Pilot%d", rng.IntN(6))
				role := []string{api.RoleLead, api.RoleMember, api.RoleViewer}[rng.IntN(3)]
				group := ines.InTeam(team)
				if rng.IntN(2) == 0 {
					group = ines.InCase(c)
				}
				var err error
				switch rng.IntN(9) {
				case 0, 1:
					_, err = group.Change(ctx, person, api.MemberChange{Role: role})
				case 2:
					err = group.Remove(ctx, person)
				case 3:
					_, err = ines.AddCaseTeam(ctx, c, team)
				case 4:
					err = ines.RemoveCaseTeam(ctx, c, team)
				case 5:
					if err = ines.DeleteTeam(ctx, team); err == nil {
						_, err = ines.NewTeam(ctx, team)
					}
				case 6, 7:
					var x api.Invitation
					if x, err = group.Invite(ctx, api.NewInvitation{Role: role, Days: 1, Places: 1, Accounts: true}); err == nil && rng.IntN(3) > 0 {
						_, err = client.New(service.URL, "").JoinWithAccount(ctx, x.Secret, api.Credentials{Name: fmt.Sprintf("Guest%d-%d", w, i), Password: "curlew-bank"})
					} else if err == nil {
						err = group.Withdraw(ctx, x.ID)
					}
				case 8:
					var p store.Person
					if p, err = records.PersonByName(ctx, person); err == nil {
						err = accounts.New(records, front.Front{}).SetPassword(ctx, p.ID, "osprey-wall")
					}
				}
				if err != nil && !strings.Contains(err.Error(), "not found") && !strings.Contains(err.Error(), "exists") && !strings.Contains(err.Error(), "team") && !strings.Contains(err.Error(), "lead") && !strings.Contains(err.Error(), "invitation") {
					assert.NoError(t, err)
				}
			}
		})
	}
	done.Wait()
	logging.Lock()
	assert.Empty(t, log.String())
	logging.Unlock()
	var unled int
	require.NoError(t, records.Pool.QueryRow(ctx, "select count(*) from cases c where not exists (select from members m where m.case_id = c.id and m.role = 'lead')").Scan(&unled))
	assert.Zero(t, unled)
}
