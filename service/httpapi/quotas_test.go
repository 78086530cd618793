package httpapi_test

import (
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/service"
	"wraithology/service/httpapi"
	"wraithology/service/receive"
)

// What is more than a case or a person may have is refused, by every way to add it; what is deleted counts until it is gone, and others are not affected.
func TestQuotas(t *testing.T) {
	t.Parallel()
	s, err := service.Start(context.Background(), service.Options{Data: t.TempDir(), Listen: "127.0.0.1:0", Settle: receive.Settle{Quiet: time.Second}, Database: clustertest.Database(t), Log: slog.New(slog.DiscardHandler),
		Quotas: httpapi.Quotas{Case: 1000, Person: 1500}})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Stop(context.Background())) })
	signIn := func(name string) *client.Client {
		require.NoError(t, s.Accounts.Add(t.Context(), name, name+"-secret", false))
		c := client.New(s.URL, "")
		_, err := c.SignIn(t.Context(), api.Credentials{Name: name, Password: name + "-secret"}, "test")
		require.NoError(t, err)
		return c
	}
	ines, tomas := signIn("Ines"), signIn("Tomas")
	add := func(c *client.Client, of, name string, bytes int) error {
		_, err := c.Upload(t.Context(), of, name, strings.NewReader(strings.Repeat("f", bytes)), api.Reading{})
		return err
	}
	for _, name := range []string{"fog", "mist"} {
		_, err := ines.NewCase(t.Context(), api.NewCase{Name: name})
		require.NoError(t, err)
	}
	require.NoError(t, add(ines, "fog", "a", 600))
	require.ErrorIs(t, add(ines, "fog", "b", 401), fault.OverQuota)
	require.NoError(t, add(ines, "fog", "a", 600), "the same again takes no room")
	require.NoError(t, add(ines, "fog", "c", 400), "exactly as many")
	text := strings.Repeat("f", 700)
	parts := client.Parts{Case: "mist", Name: "p", Kind: "evidence", Size: 700, Bytes: strings.NewReader(text), Patience: time.Millisecond}
	require.ErrorIs(t, ines.UploadInParts(t.Context(), parts), fault.OverQuota, "of the person")
	require.NoError(t, ines.DeleteEvidence(t.Context(), "fog", "c"))
	require.ErrorIs(t, add(ines, "fog", "d", 300), fault.OverQuota, "it can be restored")
	require.NoError(t, ines.SetMember(t.Context(), "mist", api.Member{Name: "Tomas", Role: api.RoleMember}))
	require.NoError(t, tomas.UploadInParts(t.Context(), client.Parts{Case: "mist", Name: "p", Kind: "evidence", Size: 700, Bytes: strings.NewReader(text)}))
}
