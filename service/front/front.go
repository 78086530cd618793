// Package front says how the service is reached: with its own certificate, or behind a proxy that is trusted to say who asks.
package front

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync"
	"time"

	"wraithology/core/fault"
)

// Front is how the service is reached. The zero value is plain HTTP without a proxy.
type Front struct {
	// Certificate and Key are files in PEM; both are empty for plain HTTP. A file that is replaced is read again.
	Certificate, Key string
	// Proxies are trusted to name the client (X-Forwarded-For) and its protocol (X-Forwarded-Proto). Requests of others cannot name anybody else.
	Proxies []netip.Prefix
}

// Check reads the certificate, if there is one.
func (f Front) Check() error {
	if (f.Certificate == "") != (f.Key == "") {
		return fault.InvalidUse.New("give both --tls-certificate and --tls-key", "a certificate and its key belong together")
	}
	if f.Certificate == "" {
		return nil
	}
	if _, err := tls.LoadX509KeyPair(f.Certificate, f.Key); err != nil {
		return fault.InvalidUse.New("check the files of --tls-certificate and --tls-key", "the certificate cannot be used: %w", err)
	}
	return nil
}

// IsSecure reports whether browsers reach the service by HTTPS: with its own certificate, or by a proxy.
func (f Front) IsSecure() bool { return f.Certificate != "" || len(f.Proxies) > 0 }

// TLS returns the configuration of the server; nil for plain HTTP.
func (f Front) TLS() *tls.Config {
	if f.Certificate == "" {
		return nil
	}
	c := &certificate{front: f}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get, NextProtos: []string{"h2", "http/1.1"}}
}

// certificate is read again when one of its files has changed.
type certificate struct {
	front Front

	mu   sync.Mutex
	read [2]time.Time // when the files were changed
	is   *tls.Certificate
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	var now [2]time.Time
	for i, name := range []string{c.front.Certificate, c.front.Key} {
		if info, err := os.Stat(name); err == nil {
			now[i] = info.ModTime()
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.is != nil && now == c.read {
		return c.is, nil
	}
	pair, err := tls.LoadX509KeyPair(c.front.Certificate, c.front.Key)
	if err != nil {
		if c.is != nil { // one of them is being replaced
			return c.is, nil
		}
		return nil, fmt.Errorf("read the certificate: %w", err)
	}
	c.is, c.read = &pair, now
	return c.is, nil
}

// Client returns the address of who asks, without a port: that of the connection, or what trusted proxies say.
func (f Front) Client(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	if !f.trusts(host) {
		return host
	}
	// Each proxy has added the address that it saw: the last one that no proxy has is that of the client; those before it can be invented.
	list := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(list) - 1; i >= 0; i-- {
		ip, err := netip.ParseAddr(strings.TrimSpace(list[i]))
		if err != nil {
			break
		}
		if host = ip.Unmap().String(); !f.trusts(host) {
			break
		}
	}
	return host
}

// Scheme returns the protocol by which the client reached the service: http or https.
func (f Front) Scheme(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr) // empty is not trusted
	if r.TLS != nil || f.trusts(host) && strings.EqualFold(r.Header.Get("X-Forwarded-Proto"), "https") {
		return "https"
	}
	return "http"
}

func (f Front) trusts(host string) bool {
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	for _, p := range f.Proxies {
		if p.Contains(ip.Unmap()) {
			return true
		}
	}
	return false
}

// Networks parses the addresses and networks of a flag.
func Networks(flag string, list []string) (out []netip.Prefix, err error) {
	for _, text := range list {
		if ip, err := netip.ParseAddr(text); err == nil {
			out = append(out, netip.PrefixFrom(ip, ip.BitLen()))
			continue
		}
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, fault.InvalidUse.New("write "+flag+" 10.1.0.0/16", "invalid network %q", text)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}
