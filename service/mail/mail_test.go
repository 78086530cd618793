package mail

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"mime"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/e2e/mailtest"
)

var certificate tls.Certificate

// TestMain makes a certificate that the process trusts.
func TestMain(m *testing.M) { os.Exit(runAll(m)) }

func runAll(m *testing.M) int {
	dir, err := os.MkdirTemp("", "mail-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	about := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	if err != nil {
		panic(err)
	}
	certificate = tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	file := filepath.Join(dir, "roots.pem")
	if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600); err != nil {
		panic(err)
	}
	if err := os.Setenv("SSL_CERT_FILE", file); err != nil {
		panic(err)
	}
	return m.Run()
}

func message(key string) Message {
	return Message{To: "ines@gannet.example", Key: key, Thread: "case-7", Subject: "[fog] Tomas mentions you: “tide\r\nBcc: everybody@gannet.example”", Text: "The berth is too shallow.\n.\nA line after a dot.\n", HTML: "<p>The berth is too shallow.</p>"}
}

// A mail arrives over each kind of connection, with its headers, and nothing is sent without the protection that is asked for.
func TestSend(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		server mailtest.Options
		sender Options
		fails  bool
	}{
		"without TLS":             {sender: Options{Protection: Open}},
		"starttls":                {server: mailtest.Options{TLS: &tls.Config{Certificates: []tls.Certificate{certificate}}}},
		"starttls and a password": {server: mailtest.Options{TLS: &tls.Config{Certificates: []tls.Certificate{certificate}}, User: "wraith", Password: "osprey-wall-7"}, sender: Options{User: "wraith", Password: "osprey-wall-7"}},
		"tls":                     {server: mailtest.Options{TLS: &tls.Config{Certificates: []tls.Certificate{certificate}}, Implicit: true}, sender: Options{Protection: TLS}},
		"a password without TLS":  {server: mailtest.Options{User: "wraith", Password: "osprey-wall-7"}, sender: Options{Protection: Open, User: "wraith", Password: "osprey-wall-7"}},
		"no starttls offered":     {fails: true},
		"a wrong password":        {server: mailtest.Options{TLS: &tls.Config{Certificates: []tls.Certificate{certificate}}, User: "wraith", Password: "osprey-wall-7"}, sender: Options{User: "wraith", Password: "wrong"}, fails: true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := mailtest.Start(t, c.server)
			c.sender.Server, c.sender.From = server.Address, "wraith@gannet.example"
			s, err := New(c.sender)
			require.NoError(t, err)
			err = s.Send(t.Context(), message("k1"))
			if c.fails {
				assert.Error(t, err)
				assert.False(t, IsFinal(err), "the administrator may correct it")
				assert.Empty(t, server.Mails())
				return
			}
			require.NoError(t, err)
			list := server.Mails()
			require.Len(t, list, 1)
			m := list[0]
			assert.Equal(t, []string{"ines@gannet.example"}, m.To)
			assert.Equal(t, "wraith@gannet.example", m.From)
			assert.Equal(t, "<k1@gannet.example>", m.Header.Get("Message-ID"))
			assert.Equal(t, "<case-7@gannet.example>", m.Header.Get("References"))
			assert.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
			assert.Empty(t, m.Header.Get("Bcc"))
			subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
			require.NoError(t, err)
			assert.Equal(t, "[fog] Tomas mentions you: “tide Bcc: everybody@gannet.example”", subject)
			assert.Contains(t, m.Text, "A line after a dot.")
			assert.Contains(t, m.Text, "text/html")
		})
	}
}

// A mail that the server refuses for good is not tried again; one that it refuses for now is.
func TestIsFinal(t *testing.T) {
	t.Parallel()
	server := mailtest.Start(t, mailtest.Options{})
	s, err := New(Options{Server: server.Address, From: "wraith@gannet.example", Protection: Open})
	require.NoError(t, err)
	for code, isFinal := range map[int]bool{421: false, 451: false, 550: true, 554: true} {
		server.Refuse(func() error {
			return &smtp.SMTPError{Code: code, EnhancedCode: smtp.EnhancedCode{code / 100, 0, 0}, Message: "no"}
		})
		err := s.Send(t.Context(), message("k"))
		require.Error(t, err)
		assert.Equal(t, isFinal, IsFinal(err), "%d: %v", code, err)
	}
	gone, err := New(Options{Server: "127.0.0.1:1", From: "wraith@gannet.example", Protection: Open})
	require.NoError(t, err)
	err = gone.Send(t.Context(), message("k"))
	require.Error(t, err)
	assert.False(t, IsFinal(err), "a server that is down comes back")
}

func TestOptions(t *testing.T) {
	t.Parallel()
	for _, o := range []Options{{}, {Server: "mail.gannet.example", From: "a@b.example"}, {Server: "mail.gannet.example:0", From: "a@b.example"}, {Server: "mail.gannet.example:99999", From: "a@b.example"}, {Server: "m:25"},
		{Server: "m:25", From: "Wraith <a@b.example>"}, {Server: "m:25", From: "a@b.example", Protection: "some"}} {
		_, err := New(o)
		kind, _ := fault.Of(err)
		assert.NotEqual(t, fault.Internal, kind, "%+v: %v", o, err)
		assert.Error(t, err, "%+v", o)
	}
}

func TestAddress(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"ines@gannet.example", "first.last+berth@mail.gannet.example", "ïnes@gannet.example", "x@[192.0.2.1]"} {
		got, err := Address(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, got)
	}
	for _, text := range []string{"", "ines", "@gannet.example", "ines@", "Ines <ines@gannet.example>", "<ines@gannet.example>", "a@b.example, c@d.example", "ines@gannet.example\r\nBcc: x@y.example", "ines@gannet.example\n",
		"ines @gannet.example", "ines(quay)@gannet.example", "a\x00@b.example", strings.Repeat("a", 250) + "@b.example"} {
		_, err := Address(text)
		assert.ErrorIs(t, err, fault.InvalidRequest, "%q", text)
	}
}

// A subject is one line, whatever it is made from.
func FuzzLine(f *testing.F) {
	f.Add("tide\r\n\tdepth\x00 \u2028x")
	f.Add(strings.Repeat("ä", 300))
	f.Fuzz(func(t *testing.T, text string) {
		got := Line(text)
		assert.Equal(t, -1, strings.IndexFunc(got, unicode.IsControl))
		assert.LessOrEqual(t, len([]rune(got)), mostOfLine)
		assert.False(t, bytes.ContainsAny([]byte(got), "\r\n"))
		assert.Equal(t, got, Line(got))
	})
}
