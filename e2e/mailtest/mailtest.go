// Package mailtest runs a mail server in tests.
package mailtest

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/mail"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mail is a mail that the server took.
type Mail struct {
	From string
	To   []string
	mail.Message
	Text string // the body as it was sent
	At   time.Time
}

// Server is a running mail server.
type Server struct {
	Address string

	mu    sync.Mutex
	mails []Mail
	// refuse is called for each mail; its error is the answer.
	refuse         func() error
	user, password string
	smtp           *smtp.Server
	done           chan error // what serving ended with
}

// Options are what the server asks for. Without a configuration it offers no TLS.
type Options struct {
	TLS            *tls.Config
	User, Password string // empty for none
	// Implicit begins connections with TLS.
	Implicit bool
}

// Start runs a mail server on loopback until the test ends.
func Start(t testing.TB, o Options) *Server {
	t.Helper()
	s, err := Open(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}

// Open runs a mail server on loopback until it is closed.
func Open(o Options) (*Server, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{Address: listener.Addr().String(), user: o.User, password: o.Password, done: make(chan error, 1)}
	s.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{server: s, signedIn: o.User == ""}, nil }))
	s.smtp.Domain, s.smtp.TLSConfig, s.smtp.MaxMessageBytes = "mail.gannet.example", o.TLS, 64<<20
	s.smtp.AllowInsecureAuth = o.TLS == nil
	if o.Implicit {
		listener = tls.NewListener(listener, o.TLS)
	}
	go func() { s.done <- s.smtp.Serve(listener) }()
	return s, nil
}

// Close ends the server and its connections.
func (s *Server) Close() error {
	_ = s.smtp.Close() // connections that have ended already are none of its errors
	if err := <-s.done; err != nil && !errors.Is(err, smtp.ErrServerClosed) {
		return err
	}
	return nil
}

// Mails returns the mails that the server took, in order.
func (s *Server) Mails() []Mail {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Mail(nil), s.mails...)
}

// Refuse sets what the server answers to a mail; nil, or a nil error, for taking it.
func (s *Server) Refuse(f func() error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refuse = f
}

type session struct {
	server   *Server
	signedIn bool
	from     string
	to       []string
}

// AuthMechanisms implements smtp.AuthSession.
func (*session) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth implements smtp.AuthSession.
func (x *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != x.server.user || password != x.server.password {
			return smtp.ErrAuthFailed
		}
		x.signedIn = true
		return nil
	}), nil
}

// Mail implements smtp.Session.
func (x *session) Mail(from string, _ *smtp.MailOptions) error {
	if !x.signedIn {
		return smtp.ErrAuthRequired
	}
	x.from = from
	return nil
}

// Rcpt implements smtp.Session.
func (x *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	x.to = append(x.to, to)
	return nil
}

// Data implements smtp.Session.
func (x *session) Data(r io.Reader) error {
	content, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m, err := mail.ReadMessage(bytes.NewReader(content))
	if err != nil {
		return &smtp.SMTPError{Code: 554, Message: err.Error()}
	}
	body, err := io.ReadAll(m.Body)
	if err != nil {
		return err
	}
	x.server.mu.Lock()
	defer x.server.mu.Unlock()
	if x.server.refuse != nil {
		if err := x.server.refuse(); err != nil {
			return err
		}
	}
	x.server.mails = append(x.server.mails, Mail{From: x.from, To: x.to, Message: *m, Text: string(body), At: time.Now()})
	return nil
}

// Reset implements smtp.Session.
func (x *session) Reset() { x.from, x.to = "", nil }

// Logout implements smtp.Session.
func (*session) Logout() error { return nil }
