// Package mail sends mail by SMTP (RFC 5321).
package mail

import (
	"context"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"strconv"
	"strings"
	"time"
	"unicode"

	gomail "github.com/wneessen/go-mail"

	"wraithology/core/fault"
)

// How a connection is protected.
const (
	StartTLS = "starttls" // STARTTLS (RFC 3207), and nothing is sent without it
	TLS      = "tls"      // TLS from the beginning (RFC 8314)
	Open     = "off"      // for a server on the same machine
)

// Options are the server that takes mail.
type Options struct {
	Server         string // HOST:PORT; empty for none
	From           string // address
	User, Password string // empty for none
	Protection     string // StartTLS if empty
}

// Sender sends mail.
type Sender struct {
	client *gomail.Client
	from   string
	domain string
}

// Message is one mail. Key makes its Message-ID, with the domain of the sender; messages about one thing have the same Thread.
type Message struct {
	To, Key, Thread     string
	Subject, Text, HTML string
}

// limit is the time limit of a mail, with the connection.
const limit = 30 * time.Second

// New returns a sender. The error says which option is wrong.
func New(o Options) (*Sender, error) {
	host, port, err := net.SplitHostPort(o.Server)
	if err != nil {
		return nil, fault.InvalidUse.New("write --smtp HOST:PORT", "invalid address of the mail server %q", o.Server)
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil || n == 0 {
		return nil, fault.InvalidUse.New("write --smtp HOST:PORT, for example mail.example.org:587", "invalid port %q of the mail server", port)
	}
	from, err := Address(o.From)
	if err != nil {
		return nil, fmt.Errorf("--smtp-from: %w", err)
	}
	options := []gomail.Option{gomail.WithPort(int(n)), gomail.WithTimeout(limit)}
	switch o.Protection {
	case "", StartTLS:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	case TLS:
		options = append(options, gomail.WithSSL())
	case Open:
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
	default:
		return nil, fault.InvalidUse.New("use starttls, tls or off", "unknown protection of mail %q", o.Protection)
	}
	if o.User != "" {
		auth := gomail.SMTPAuthAutoDiscover
		if o.Protection == Open {
			auth = gomail.SMTPAuthPlainNoEnc
		}
		options = append(options, gomail.WithSMTPAuth(auth), gomail.WithUsername(o.User), gomail.WithPassword(o.Password))
	}
	client, err := gomail.NewClient(host, options...)
	if err != nil {
		return nil, fmt.Errorf("set up mail: %w", err)
	}
	return &Sender{client, from, from[strings.LastIndexByte(from, '@')+1:]}, nil
}

// Address checks a mail address (RFC 5322, section 3.4.1): one, without a name, comment or control character, of at most 254 bytes
// (RFC 5321, section 4.5.3.1.3).
func Address(text string) (string, error) {
	a, err := netmail.ParseAddress(text)
	if err != nil || a.Address != text || len(text) > 254 || strings.ContainsFunc(text, unicode.IsControl) {
		return "", fault.InvalidRequest.New("write it as name@example.org", "invalid mail address %.80q", text)
	}
	return a.Address, nil
}

// MessageID returns the Message-ID of a key, without its angle brackets.
func (s *Sender) MessageID(key string) string { return key + "@" + s.domain }

// Send sends a mail. IsFinal tells whether it is of no use to try again after an error.
func (s *Sender) Send(ctx context.Context, m Message) error {
	message := gomail.NewMsg()
	if err := message.From(s.from); err != nil {
		return fmt.Errorf("write the mail: %w", err)
	}
	if err := message.To(m.To); err != nil {
		return fmt.Errorf("write the mail: %w", err)
	}
	message.SetMessageIDWithValue(s.MessageID(m.Key))
	if m.Thread != "" {
		thread := "<" + s.MessageID(m.Thread) + ">"
		message.SetGenHeader(gomail.HeaderReferences, thread)
		message.SetGenHeader(gomail.HeaderInReplyTo, thread)
	}
	message.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834, section 5
	message.SetDate()
	message.Subject(Line(m.Subject))
	message.SetBodyString(gomail.TypeTextPlain, m.Text)
	message.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	if err := s.client.DialAndSendWithContext(ctx, message); err != nil {
		return fmt.Errorf("send mail: %w", err)
	}
	return nil
}

// IsFinal reports whether the server has refused a mail for good (RFC 5321, section 4.2.1).
func IsFinal(err error) bool {
	var refused *gomail.SendError
	if !errors.As(err, &refused) {
		return false
	}
	return !refused.IsTemp() && refused.ErrorCode() >= 500
}

// mostOfLine limits a subject, in characters.
const mostOfLine = 200

// Line makes a text one line without control characters, of at most 200 characters.
func Line(text string) string {
	text = strings.Join(strings.FieldsFunc(text, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) }), " ")
	if r := []rune(text); len(r) > mostOfLine {
		return string(r[:mostOfLine-1]) + "…"
	}
	return text
}
