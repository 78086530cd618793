// Package editor lets an editor read a recording, a dump or a trace by the open Debug Adapter Protocol (1.x): requests for threads,
// stacks, scopes, variables and breakpoints are answered by questions of core/ask. Nothing runs, so requests that would change a program
// are refused.
package editor

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/google/go-dap"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/fault"
)

// Team is a sitting that the editor takes part in.
type Team interface {
	// Moved tells the others where the editor has gone.
	Moved(ctx context.Context, p ask.Place) error
	// Follow calls f with each place that the sitting goes to while the editor follows, until the context ends.
	Follow(ctx context.Context, f func(p ask.Place)) error
}

// Session is the conversation with one editor.
type Session struct {
	of     client.Target
	team   Team // nil without a sitting
	folder string

	writing sync.Mutex // of out and seq
	out     io.Writer
	seq     int

	mu      sync.Mutex // of what follows
	peek    ask.Peek
	place   ask.Place
	reason  string // why it is there, as the protocol names it
	text    string
	started bool
	points  points
	refs    references
	// waiting is where the sitting is that the editor follows, until the session has begun.
	waiting *ask.Place
	// start is "beginning" if the launch asks to begin there.
	start   string
	startAt *ask.Place // given in launch
	// Lines and columns of the editor begin at 1, or at 0.
	lineBase int
}

// NewSession returns a session that writes to an editor. folder is where the recorded source is on this machine: files that are there
// are named by their path, others are sent from the evidence.
func NewSession(of client.Target, folder string, team Team, out io.Writer) *Session {
	return &Session{of: of, folder: folder, team: team, out: out, points: newPoints(), refs: newReferences(), lineBase: 1}
}

// mostMessage limits one message of the editor, in bytes.
const mostMessage = 8 << 20

// Serve answers the requests of an editor until it disconnects, the stream ends or the context does. A message that is not of the
// protocol ends it with an error that wraps fault.InvalidRequest.
func (s *Session) Serve(ctx context.Context, in io.Reader) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if s.team != nil {
		go func() {
			_ = s.team.Follow(ctx, s.follow) // the editor goes on alone when the sitting ends
		}()
	}
	messages := bufio.NewReader(in)
	for ctx.Err() == nil {
		content, err := readMessage(messages)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if ends := s.handle(ctx, content); ends {
			return nil
		}
	}
	return nil
}

// readMessage reads the content of one message: a header with its length, an empty line, and that number of bytes.
func readMessage(in *bufio.Reader) ([]byte, error) {
	length := -1
	for {
		line, err := in.ReadSlice('\n')
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			return nil, fault.InvalidRequest.New("", "a header line is too long: expected Content-Length: N")
		case errors.Is(err, io.EOF) && len(line) > 0:
			return nil, fault.InvalidRequest.New("", "the stream ends in the header of a message")
		case err != nil:
			return nil, err
		}
		text := strings.TrimSpace(string(line))
		if text == "" && length >= 0 {
			break
		}
		if name, value, ok := strings.Cut(text, ":"); ok && strings.EqualFold(name, "Content-Length") {
			if _, err := fmt.Sscan(value, &length); err != nil || length < 0 || length > mostMessage {
				return nil, fault.InvalidRequest.New("", "invalid Content-Length %q: expected a number up to %d", value, mostMessage)
			}
		} else if text == "" {
			return nil, fault.InvalidRequest.New("", "a message without Content-Length")
		}
	}
	content := make([]byte, length)
	if _, err := io.ReadFull(in, content); err != nil {
		return nil, fault.InvalidRequest.New("", "the stream ends in a message of %d bytes", length)
	}
	return content, nil
}

// envelope is what all requests have.
type envelope struct {
	Seq       int             `json:"seq"`
	Type      string          `json:"type"`
	Command   string          `json:"command"`
	Arguments json.RawMessage `json:"arguments"`
}

// handle answers one message. It reports whether the editor has disconnected.
func (s *Session) handle(ctx context.Context, content []byte) (ends bool) {
	var e envelope
	if err := json.Unmarshal(content, &e); err != nil || e.Type != "request" {
		s.refuse(e, "expected a request of the Debug Adapter Protocol")
		return false
	}
	h, ok := handlers[e.Command]
	if !ok {
		s.refuse(e, "%s is not supported: a recording is read, and not changed or run", e.Command)
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	body, after, err := h(ctx, s, e.Arguments)
	if err != nil {
		s.refuse(e, "%s", err)
		return false
	}
	s.respond(e, body)
	if after != nil {
		after()
	}
	return e.Command == "disconnect"
}

// handler answers a request with a body, nil for none. after is called when the answer has been sent.
type handler func(ctx context.Context, s *Session, arguments json.RawMessage) (body any, after func(), err error)

// answer makes a handler of a function whose arguments are A.
func answer[A any](f func(ctx context.Context, s *Session, a A) (body any, after func(), err error)) handler {
	return func(ctx context.Context, s *Session, arguments json.RawMessage) (any, func(), error) {
		var a A
		if len(arguments) > 0 {
			if err := json.Unmarshal(arguments, &a); err != nil {
				return nil, nil, fault.InvalidRequest.New("", "invalid arguments: %s", err)
			}
		}
		return f(ctx, s, a)
	}
}

func response(e envelope, ok bool, message string) dap.Response {
	return dap.Response{ProtocolMessage: dap.ProtocolMessage{Type: "response"}, RequestSeq: e.Seq, Success: ok, Command: e.Command, Message: message}
}

// bodyResponse is a response with the body of its request.
type bodyResponse struct {
	dap.Response
	Body any `json:"body,omitempty"`
}

func (s *Session) respond(e envelope, body any) {
	m := bodyResponse{response(e, true, ""), body}
	s.send(&m, &m.Seq)
}

func (s *Session) refuse(e envelope, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	m := bodyResponse{response(e, false, text), dap.ErrorResponseBody{Error: &dap.ErrorMessage{Id: 1, Format: strings.NewReplacer("{", "(", "}", ")").Replace(text), ShowUser: true}}}
	s.send(&m, &m.Seq)
}

// bodyEvent is an event with its body.
type bodyEvent struct {
	dap.Event
	Body any `json:"body,omitempty"`
}

func (s *Session) event(name string, body any) {
	m := bodyEvent{dap.Event{ProtocolMessage: dap.ProtocolMessage{Type: "event"}, Event: name}, body}
	s.send(&m, &m.Seq)
}

// send gives a message its number, and writes it. An editor that has gone ends the stream that is read.
func (s *Session) send(m any, seq *int) {
	s.writing.Lock()
	defer s.writing.Unlock()
	s.seq++
	*seq = s.seq
	content, err := json.Marshal(m)
	if err != nil {
		return // the types of the protocol can be written
	}
	_ = dap.WriteBaseMessage(s.out, content)
}

// follow goes where the sitting goes.
func (s *Session) follow(p ask.Place) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.started {
		s.waiting = &p
		return
	}
	if p.Moment == s.place.Moment && p.Thread == s.place.Thread {
		return
	}
	s.arrive(p, "goto", "the sitting went here")
}

// arrive is at a place, and tells the editor.
func (s *Session) arrive(p ask.Place, reason, text string) {
	s.place, s.reason, s.text = p, reason, text
	s.refs.forget()
	s.event("stopped", dap.StoppedEventBody{Reason: reason, Description: text, Text: text, ThreadId: int(p.Thread), AllThreadsStopped: true})
}

// goTo arrives at a place, and takes the sitting there.
func (s *Session) goTo(ctx context.Context, p ask.Place, reason, text string) {
	s.arrive(p, reason, text)
	if s.team != nil {
		if err := s.team.Moved(ctx, p); err != nil {
			s.event("output", dap.OutputEventBody{Category: "console", Output: fmt.Sprintf("the sitting was not moved: %s\n", err)})
		}
	}
}

// isSnapshot reports whether the evidence has one moment only.
func (s *Session) isSnapshot() bool { return !s.peek.Evidence.Traits.History }

// last returns the last moment.
func (s *Session) last() event.Moment { return event.Moment(s.peek.Evidence.Moments - 1) }
