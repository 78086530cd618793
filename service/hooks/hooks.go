// Package hooks sends signed requests to addresses that people have given (Standard Webhooks 1.0).
package hooks

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"wraithology/core/fault"
)

// Sender sends requests. Private addresses are refused when a connection is made, unless they are allowed.
type Sender struct {
	allowed []netip.Prefix
	client  *http.Client
}

const (
	limit      = 20 * time.Second // of a request
	mostAnswer = 64 << 10         // bytes of an answer that are read
	prefix     = "whsec_"         // of a secret (Standard Webhooks, Signature scheme)
)

// New returns a sender that may also send to the private addresses in allowed.
func New(allowed []netip.Prefix) *Sender {
	s := &Sender{allowed: allowed}
	dialer := &net.Dialer{Timeout: limit / 2, Control: func(_, address string, _ syscall.RawConn) error { return s.check(address) }}
	s.client = &http.Client{
		Timeout: limit,
		// No proxy: it would make the connection, and could not be checked. Receivers do not send the request on.
		Transport:     &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: limit / 2, ResponseHeaderTimeout: limit, DisableKeepAlives: true, MaxResponseHeaderBytes: mostAnswer},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return s
}

// errPrivate is a private address that is not allowed.
var errPrivate = errors.New("private addresses are refused; an administrator can allow them with wraithd --webhooks-to")

// check refuses a resolved address that is private.
func (s *Sender) check(address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return fmt.Errorf("check the address: %w", err)
	}
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return fmt.Errorf("check the address: %w", err)
	}
	if !s.may(ip) {
		return fmt.Errorf("%s: %w", ip.WithZone(""), errPrivate)
	}
	return nil
}

// special are the addresses that are not in the public Internet, beside those that netip knows (IANA special-purpose address registries,
// RFC 6890), and those in which an IPv4 address is hidden (RFC 6052, RFC 3056, RFC 4380).
var special = prefixes("0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4",
	"::/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20", "5f00::/16", "fec0::/10")

func prefixes(list ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, x := range list {
		out = append(out, netip.MustParsePrefix(x))
	}
	return out
}

// may reports whether requests may go to an address.
func (s *Sender) may(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	if within(s.allowed, ip) {
		return true
	}
	return ip.IsGlobalUnicast() && !ip.IsPrivate() && !within(special, ip)
}

func within(list []netip.Prefix, ip netip.Addr) bool {
	for _, p := range list {
		if p.Contains(ip) {
			return true
		}
	}
	return false
}

// URL checks the address of a receiver: http or https, a host, and no password. An address that is written as a number is checked at once, a
// name each time a connection is made.
func (s *Sender) URL(text string) (string, error) {
	u, err := url.Parse(text)
	wrong := func(why string) error {
		return fault.InvalidRequest.New("write it as https://example.org/path", "invalid address of a webhook: %s", why)
	}
	switch {
	case err != nil:
		return "", wrong("it cannot be read")
	case u.Scheme != "https" && u.Scheme != "http":
		return "", wrong("it begins with neither https:// nor http://")
	case u.Hostname() == "":
		return "", wrong("it has no host")
	case u.User != nil:
		return "", wrong("it contains a password, which everybody in the case would see")
	case u.Fragment != "":
		return "", wrong("it has a fragment")
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil && !s.may(ip) {
		return "", fault.InvalidRequest.New("give a public address, or ask the administrator", "%s: %w", u.Hostname(), errPrivate)
	}
	return u.String(), nil
}

// NewSecret returns a secret of 256 bits for signatures.
func NewSecret() string {
	key := make([]byte, 32)
	_, _ = rand.Read(key) // never fails (crypto/rand)
	return prefix + base64.StdEncoding.EncodeToString(key)
}

// Refused is an answer that is not a success.
type Refused struct {
	Status int
	Text   string // the beginning of the answer
}

// Error implements error.
func (r Refused) Error() string {
	if r.Text == "" {
		return fmt.Sprintf("the receiver answered %d", r.Status)
	}
	return fmt.Sprintf("the receiver answered %d: %s", r.Status, r.Text)
}

// IsGone reports whether the receiver wants nothing any more (RFC 9110, section 15.5.11).
func IsGone(err error) bool {
	var r Refused
	return errors.As(err, &r) && r.Status == http.StatusGone
}

// Send posts a JSON text. The key is the same at each attempt: it is the header webhook-id, and Idempotency-Key
// (draft-ietf-httpapi-idempotency-key-header).
func (s *Sender) Send(ctx context.Context, to, secret, key string, body []byte, at time.Time) error {
	signature, err := sign(secret, key, at, body)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("make the request: %w", err)
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("User-Agent", "wraithd")
	r.Header.Set("webhook-id", key)
	r.Header.Set("webhook-timestamp", strconv.FormatInt(at.Unix(), 10))
	r.Header.Set("webhook-signature", signature)
	r.Header.Set("Idempotency-Key", strconv.Quote(key))
	answer, err := s.client.Do(r)
	if err != nil {
		if of := new(url.Error); errors.As(err, &of) {
			err = of.Err // the address is known to whoever reads it
		}
		return fmt.Errorf("send the request: %w", err)
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(answer.Body, mostAnswer)) // what it says is of interest only if it is there
	if answer.StatusCode/100 == 2 {
		return nil
	}
	return Refused{answer.StatusCode, strings.ToValidUTF8(strings.Join(strings.Fields(string(text[:min(len(text), 200)])), " "), "")}
}

// sign signs a request (Standard Webhooks, Signature scheme: HMAC-SHA256).
func sign(secret, key string, at time.Time, body []byte) (string, error) {
	plain, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, prefix))
	if err != nil {
		return "", fmt.Errorf("read the secret of the webhook: %w", err)
	}
	h := hmac.New(sha256.New, plain)
	fmt.Fprintf(h, "%s.%d.%s", key, at.Unix(), body)
	return "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil)), nil
}
