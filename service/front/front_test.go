package front

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// Only trusted proxies name the client, and only what they have seen themselves counts.
func TestClient(t *testing.T) {
	t.Parallel()
	f := Front{Proxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("::1/128")}}
	for _, x := range []struct {
		from      string
		forwarded []string
		want      string
	}{
		{"192.0.2.7:4000", nil, "192.0.2.7"},
		{"192.0.2.7:4000", []string{"198.51.100.9"}, "192.0.2.7"},
		{"10.1.2.3:4000", []string{"198.51.100.9"}, "198.51.100.9"},
		{"10.1.2.3:4000", []string{"203.0.113.1, 198.51.100.9"}, "198.51.100.9"},
		{"10.1.2.3:4000", []string{"203.0.113.1", "198.51.100.9, 10.9.9.9"}, "198.51.100.9"},
		{"10.1.2.3:4000", nil, "10.1.2.3"},
		{"10.1.2.3:4000", []string{"not an address"}, "10.1.2.3"},
		{"10.1.2.3:4000", []string{"203.0.113.1, junk, 10.4.4.4"}, "10.4.4.4"},
		{"[::1]:4000", []string{"2001:db8::5"}, "2001:db8::5"},
		{"[::1]:4000", []string{"::ffff:198.51.100.9"}, "198.51.100.9"},
		{"[::ffff:10.1.2.3]:4000", []string{"198.51.100.9"}, "198.51.100.9"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = x.from
		for _, v := range x.forwarded {
			r.Header.Add("X-Forwarded-For", v)
		}
		assert.Equal(t, x.want, f.Client(r), "%v", x)
		r.Header.Set("X-Forwarded-Proto", "https")
		assert.Equal(t, map[bool]string{true: "https", false: "http"}[x.from != "192.0.2.7:4000"], f.Scheme(r), "%v", x)
		assert.Equal(t, "http", Front{}.Scheme(r))
	}
}

func pair(t *testing.T, dir, name string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	cert, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	text, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cert.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert}), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: text}), 0o600))
}

// A certificate that is replaced is used at once; half of a new one is not.
func TestCertificate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	f := Front{Certificate: filepath.Join(dir, "cert.pem"), Key: filepath.Join(dir, "key.pem")}
	require.ErrorIs(t, f.Check(), fault.InvalidUse)
	require.ErrorIs(t, Front{Key: "x"}.Check(), fault.InvalidUse)
	require.NoError(t, Front{}.Check())
	assert.Nil(t, Front{}.TLS())
	pair(t, dir, "old.gannet.example")
	require.NoError(t, f.Check())
	s := &http.Server{Handler: http.NotFoundHandler(), TLSConfig: f.TLS()}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = s.ServeTLS(listener, "", "") }() // it ends with the test
	t.Cleanup(func() { s.Close() })
	name := func() string {
		transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true} // the certificate is its own authority
		answer, err := (&http.Client{Transport: transport}).Get("https://" + listener.Addr().String())
		require.NoError(t, err)
		defer answer.Body.Close()
		return answer.TLS.PeerCertificates[0].DNSNames[0]
	}
	assert.Equal(t, "old.gannet.example", name())
	cert, err := os.ReadFile(f.Certificate)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f.Certificate, cert[:len(cert)/2], 0o600))
	assert.Equal(t, "old.gannet.example", name())
	pair(t, dir, "new.gannet.example")
	require.NoError(t, os.Chtimes(f.Key, time.Now(), time.Now().Add(time.Second)))
	assert.Equal(t, "new.gannet.example", name())
}
