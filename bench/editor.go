package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"time"

	"github.com/google/go-dap"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/editor"
)

// measureEditor times what an editor waits for when it steps through the largest recording: until it knows where the step led, and what is on the
// stack and in the scopes there.
func measureEditor(r *report, dir string, n int64) error {
	path := logPath(dir, n)
	if _, err := os.Stat(path + ".timeline"); err != nil { // measured alone
		if err := generate(path, n); err != nil {
			return err
		}
		if _, err := self("-build", path); err != nil {
			return err
		}
	}
	o, err := openFor(path, n)
	if err != nil {
		return err
	}
	random := rand.New(rand.NewPCG(3, 3))
	var steps, whole []time.Duration
	for range 40 {
		if err := stepAbout(o, event.Moment(random.Int64N(o.n)), random, &steps, &whole); err != nil {
			return err
		}
	}
	floor := o.peek
	name := fmt.Sprintf("%d million moments: through the editor's protocol, ", n/1_000_000)
	worst := p99(steps)
	r.add(name+"a step, p99", worst.String(), floor.String()+", reading one block", worst.Seconds()/floor.Seconds(), "20 ms", worst <= 20*time.Millisecond)
	worst = p99(whole)
	r.add(name+"a step with stack, scopes and variables, p99", worst.String(), floor.String()+", reading one block", worst.Seconds()/floor.Seconds(), "50 ms", worst <= 50*time.Millisecond)
	return nil
}

// stepAbout begins a session at a moment and times 25 steps.
func stepAbout(o opened, at event.Moment, random *rand.Rand, steps, whole *[]time.Duration) error {
	// Pipes of the system hold some bytes: both ends may write at the same time.
	in, requests, err := os.Pipe()
	if err != nil {
		return err
	}
	answers, out, err := os.Pipe()
	if err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() {
		defer out.Close()
		ended <- editor.NewSession(client.Target{Local: ask.Subject{Recording: o.r}}, os.TempDir(), nil, out).Serve(ctx(), in)
	}()
	e := &session{out: requests, in: bufio.NewReader(answers)}
	for _, m := range []dap.Message{
		&dap.InitializeRequest{Request: protocol("initialize"), Arguments: dap.InitializeRequestArguments{ClientID: "bench", AdapterID: "wraith", LinesStartAt1: true, ColumnsStartAt1: true}},
		&dap.LaunchRequest{Request: protocol("launch"), Arguments: fmt.Appendf(nil, `{"start":"@%d"}`, at)},
		&dap.ConfigurationDoneRequest{Request: protocol("configurationDone")},
	} {
		if _, err := e.asks(m); err != nil {
			return err
		}
	}
	if err := e.stops(); err != nil {
		return err
	}
	for range 25 {
		begun := time.Now()
		if _, err := e.asks(aStep(random, e.thread)); errors.Is(err, errRefused) { // at an end of the thread
			continue
		} else if err != nil {
			return err
		}
		if err := e.stops(); err != nil {
			return err
		}
		*steps = append(*steps, time.Since(begun))
		if err := e.looks(); err != nil {
			return err
		}
		*whole = append(*whole, time.Since(begun))
	}
	if _, err := e.asks(&dap.DisconnectRequest{Request: protocol("disconnect")}); err != nil {
		return err
	}
	requests.Close()
	go io.Copy(io.Discard, e.in) // what it still says
	<-ended
	return nil
}

// looks asks what an editor shows where the replay stands: the stack, and the values of its innermost frame.
func (e *session) looks() error {
	stack, err := e.asks(&dap.StackTraceRequest{Request: protocol("stackTrace"), Arguments: dap.StackTraceArguments{ThreadId: e.thread, Levels: 20}})
	if err != nil {
		return err
	}
	frames := stack.(*dap.StackTraceResponse).Body.StackFrames
	if len(frames) == 0 {
		return nil
	}
	scopes, err := e.asks(&dap.ScopesRequest{Request: protocol("scopes"), Arguments: dap.ScopesArguments{FrameId: frames[0].Id}})
	if err != nil {
		return err
	}
	for _, s := range scopes.(*dap.ScopesResponse).Body.Scopes {
		if _, err := e.asks(&dap.VariablesRequest{Request: protocol("variables"), Arguments: dap.VariablesArguments{VariablesReference: s.VariablesReference}}); err != nil {
			return err
		}
	}
	return nil
}

// session is a client of the protocol.
type session struct {
	out    io.Writer
	in     *bufio.Reader
	seq    int
	thread int
	stop   *dap.StoppedEvent // that came before it was waited for
}

var errRefused = errors.New("refused")

func protocol(command string) dap.Request {
	return dap.Request{ProtocolMessage: dap.ProtocolMessage{Type: "request"}, Command: command}
}

// asks sends a request and returns its answer.
func (e *session) asks(m dap.Message) (dap.Message, error) {
	e.seq++
	m.(dap.RequestMessage).GetRequest().Seq = e.seq
	if err := dap.WriteProtocolMessage(e.out, m); err != nil {
		return nil, err
	}
	for {
		got, err := dap.ReadProtocolMessage(e.in)
		if err != nil {
			return nil, err
		}
		switch x := got.(type) {
		case *dap.StoppedEvent:
			e.stop = x
		case dap.ResponseMessage:
			if r := x.GetResponse(); r.RequestSeq == e.seq {
				if !r.Success {
					return nil, fmt.Errorf("%w: %s: %s", errRefused, r.Command, r.Message)
				}
				return got, nil
			}
		}
	}
}

// stops waits until the replay stands.
func (e *session) stops() error {
	for e.stop == nil {
		got, err := dap.ReadProtocolMessage(e.in)
		if err != nil {
			return err
		}
		if x, ok := got.(*dap.StoppedEvent); ok {
			e.stop = x
		}
	}
	e.thread, e.stop = e.stop.Body.ThreadId, nil
	return nil
}

// aStep is a step of any kind.
func aStep(random *rand.Rand, thread int) dap.Message {
	switch random.IntN(4) {
	case 0:
		return &dap.NextRequest{Request: protocol("next"), Arguments: dap.NextArguments{ThreadId: thread}}
	case 1:
		return &dap.StepInRequest{Request: protocol("stepIn"), Arguments: dap.StepInArguments{ThreadId: thread}}
	case 2:
		return &dap.StepOutRequest{Request: protocol("stepOut"), Arguments: dap.StepOutArguments{ThreadId: thread}}
	}
	return &dap.StepBackRequest{Request: protocol("stepBack"), Arguments: dap.StepBackArguments{ThreadId: thread}}
}
