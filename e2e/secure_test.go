package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/e2e/clustertest"
	wraithd "wraithology/service"
	"wraithology/service/front"
)

// Over HTTPS, by an own certificate or a trusted proxy, a session's cookie is secure, and answers of the API are not kept.
func TestServedSecurely(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	cert, keyFile := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
	known := x509.NewCertPool()
	known.AppendCertsFromPEM(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))

	for name, x := range map[string]struct {
		front  front.Front
		scheme string
		secure bool
	}{
		"plain":       {front.Front{}, "http", false},
		"certificate": {front.Front{Certificate: cert, Key: keyFile}, "https", true},
		"proxy":       {front.Front{Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}, "http", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, err := wraithd.Start(t.Context(), wraithd.Options{Data: t.TempDir(), Listen: "127.0.0.1:0", Database: clustertest.Database(t), Log: slog.New(slog.DiscardHandler), Front: x.front})
			require.NoError(t, err)
			t.Cleanup(func() { assert.NoError(t, s.Stop(context.Background())) })
			require.NoError(t, s.Accounts.Add(t.Context(), "Ines", "heavy swell", false))
			assert.True(t, strings.HasPrefix(s.URL, x.scheme+"://"), s.URL)
			c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: known}}}
			defer c.CloseIdleConnections()
			answer, err := c.Post(s.URL+"/api/sessions", "application/json", strings.NewReader(`{"name":"Ines","password":"heavy swell"}`))
			require.NoError(t, err)
			defer answer.Body.Close()
			_, _ = io.Copy(io.Discard, answer.Body)
			require.Equal(t, http.StatusOK, answer.StatusCode)
			assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"))
			require.Len(t, answer.Cookies(), 1)
			assert.Equal(t, x.secure, answer.Cookies()[0].Secure)
		})
	}
	_, err = wraithd.Start(t.Context(), wraithd.Options{Data: t.TempDir(), Listen: "127.0.0.1:0", Front: front.Front{Certificate: keyFile, Key: cert}})
	require.ErrorContains(t, err, "the certificate cannot be used")
}
