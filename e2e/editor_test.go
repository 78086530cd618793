package e2e

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// protocol is the JSON schema of the Debug Adapter Protocol, which go-dap's module carries.
var protocol = sync.OnceValues(func() (*jsonschema.Compiler, error) {
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/google/go-dap").Output()
	if err != nil {
		return nil, err
	}
	f, err := os.Open(filepath.Join(strings.TrimSpace(string(dir)), "cmd", "gentypes", "debugProtocol.json"))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	schema, err := jsonschema.UnmarshalJSON(f)
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	return c, c.AddResource("https://dap.test/protocol.json", schema)
})

var schemas sync.Mutex // a compiler is not for concurrent use

// anEditor is a client of the protocol, written from its specification. It checks each message against its schema.
type anEditor struct {
	t      *testing.T
	out    io.Writer
	in     *bufio.Reader
	seq    int
	events []message
	ended  chan error
}

type message struct {
	Seq        int             `json:"seq"`
	Type       string          `json:"type"`
	Event      string          `json:"event"`
	Command    string          `json:"command"`
	RequestSeq int             `json:"request_seq"`
	Success    bool            `json:"success"`
	Message    string          `json:"message"`
	Body       json.RawMessage `json:"body"`
}

// edit starts wraith editor for evidence.
func (p person) edit(t *testing.T, args ...string) *anEditor {
	c := exec.Command(filepath.Join(work, "wraith"), append([]string{"--config", p.config, "editor"}, args...)...)
	out, err := c.StdinPipe()
	require.NoError(t, err)
	in, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	e := &anEditor{t: t, out: out, in: bufio.NewReader(in), ended: make(chan error, 1)}
	t.Cleanup(func() { _ = c.Process.Kill() })
	go func() { e.ended <- c.Wait() }()
	return e
}

// check compares a message with the definition of its kind.
func (e *anEditor) check(m message, content []byte) {
	name := strings.ToUpper(m.Command[:min(len(m.Command), 1)]) + m.Command[min(len(m.Command), 1):] + "Response"
	switch {
	case m.Type == "event":
		name = strings.ToUpper(m.Event[:1]) + m.Event[1:] + "Event"
	case !m.Success:
		name = "ErrorResponse"
	}
	schemas.Lock()
	defer schemas.Unlock()
	c, err := protocol()
	require.NoError(e.t, err)
	definition, err := c.Compile("https://dap.test/protocol.json#/definitions/" + name)
	require.NoError(e.t, err, name)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(content)))
	require.NoError(e.t, err)
	require.NoError(e.t, definition.Validate(value), "%s: %s", name, content)
}

func (e *anEditor) read() message {
	e.t.Helper()
	read := make(chan message, 1)
	go func() {
		defer close(read)
		read <- e.receive()
	}()
	select {
	case m, ok := <-read:
		require.True(e.t, ok)
		return m
	case <-time.After(time.Minute):
		require.FailNow(e.t, "the adapter says nothing")
		return message{}
	}
}

func (e *anEditor) receive() message {
	length := 0
	for {
		line, err := e.in.ReadString('\n')
		require.NoError(e.t, err)
		if line = strings.TrimSpace(line); line == "" {
			break
		}
		_, err = fmt.Sscanf(line, "Content-Length: %d", &length)
		require.NoError(e.t, err, line)
	}
	content := make([]byte, length)
	_, err := io.ReadFull(e.in, content)
	require.NoError(e.t, err)
	var m message
	require.NoError(e.t, json.Unmarshal(content, &m))
	e.check(m, content)
	return m
}

func (e *anEditor) write(content string) {
	_, err := fmt.Fprintf(e.out, "Content-Length: %d\r\n\r\n%s", len(content), content)
	require.NoError(e.t, err)
}

// asks sends a request and returns its answer; events that come before it are kept.
func (e *anEditor) asks(command string, arguments any) message {
	e.t.Helper()
	e.seq++
	content, err := json.Marshal(map[string]any{"seq": e.seq, "type": "request", "command": command, "arguments": arguments})
	require.NoError(e.t, err)
	e.write(string(content))
	for {
		m := e.read()
		if m.Type == "response" {
			require.Equal(e.t, e.seq, m.RequestSeq)
			require.Equal(e.t, command, m.Command)
			return m
		}
		e.events = append(e.events, m)
	}
}

// gets sends a request that must succeed, and reads the body of its answer.
func gets[T any](e *anEditor, command string, arguments any) (out T) {
	e.t.Helper()
	m := e.asks(command, arguments)
	require.True(e.t, m.Success, "%s: %s", command, m.Message)
	if len(m.Body) > 0 {
		require.NoError(e.t, json.Unmarshal(m.Body, &out))
	}
	return out
}

type anything = map[string]any

// waits returns the body of the next event of a kind; others are dropped, but for their text in said.
func (e *anEditor) waits(name string) (body anything, said string) {
	e.t.Helper()
	for {
		if len(e.events) == 0 {
			e.events = append(e.events, e.read())
		}
		m := e.events[0]
		e.events = e.events[1:]
		body = anything{}
		if len(m.Body) > 0 {
			require.NoError(e.t, json.Unmarshal(m.Body, &body))
		}
		if m.Event == name {
			return body, said
		}
		if m.Event == "output" {
			said += body["output"].(string)
		}
	}
}

type stackOf struct {
	StackFrames []struct {
		ID     int    `json:"id"`
		Name   string `json:"name"`
		Line   int    `json:"line"`
		Source struct {
			Path            string `json:"path"`
			SourceReference int    `json:"sourceReference"`
		} `json:"source"`
		InstructionPointerReference string `json:"instructionPointerReference"`
	} `json:"stackFrames"`
	TotalFrames int `json:"totalFrames"`
}

// stands returns the stack of the thread that stopped.
func (e *anEditor) stands(stopped anything) stackOf {
	return gets[stackOf](e, "stackTrace", anything{"threadId": stopped["threadId"]})
}

type variablesOf struct {
	Variables []struct {
		Name, Value, Type  string
		EvaluateName       string `json:"evaluateName"`
		VariablesReference int    `json:"variablesReference"`
		IndexedVariables   int    `json:"indexedVariables"`
		MemoryReference    string `json:"memoryReference"`
	} `json:"variables"`
}

func (e *anEditor) begins(arguments anything) anything {
	gets[anything](e, "initialize", anything{"adapterID": "wraith", "linesStartAt1": true, "columnsStartAt1": true})
	gets[anything](e, "launch", arguments)
	e.waits("initialized")
	gets[anything](e, "configurationDone", nil)
	stopped, _ := e.waits("stopped")
	return stopped
}

// An editor opens the failing run: it stops at the failure, reads the stack and the values, goes back to where a value came from, halts at
// checkpoints of each kind in both directions, and is refused what would change the program.
func TestAnEditorReadsARecording(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	log := failingRun(t)
	source, err := filepath.Abs("../demo/berthing")
	require.NoError(t, err)
	e := ines.edit(t, log, "--folder", source)
	for _, early := range []string{"stackTrace", "next", "continue", "configurationDone", "setBreakpoints", "evaluate"} {
		assert.False(t, e.asks(early, anything{"source": anything{"path": "x.go"}, "expression": "1", "threadId": 1}).Success, early)
	}
	stopped := e.begins(anything{})
	assert.Equal(t, "exception", stopped["reason"])
	assert.Contains(t, stopped["text"], "under her keel")
	stack := e.stands(stopped)
	require.Len(t, stack.StackFrames, 3)
	top := stack.StackFrames[0]
	assert.Equal(t, []any{"berthing/watch.(*Gauges).Check", 77, filepath.Join(source, "watch", "watch.go")}, []any{top.Name, top.Line, top.Source.Path})
	assert.Len(t, gets[stackOf](e, "stackTrace", anything{"threadId": 1, "startFrame": 1, "levels": 1}).StackFrames, 1)
	info := gets[anything](e, "exceptionInfo", anything{"threadId": 1})
	assert.Equal(t, "always", info["breakMode"])
	assert.Contains(t, gets[anything](e, "threads", nil)["threads"].([]any)[0].(anything)["name"], "goroutine 1")

	// Values, page by page, and expressions.
	scopes := gets[struct {
		Scopes []struct {
			Name               string
			VariablesReference int `json:"variablesReference"`
		}
	}](e, "scopes", anything{"frameId": top.ID})
	byName := map[string]int{}
	for _, s := range scopes.Scopes {
		byName[s.Name] = s.VariablesReference
	}
	locals := gets[variablesOf](e, "variables", anything{"variablesReference": byName["Locals"]}).Variables
	values := map[string]string{}
	for _, v := range locals {
		values[v.Name] = v.Value
	}
	assert.Equal(t, "0.26199999999999957", values["clearance"])
	parameters := gets[variablesOf](e, "variables", anything{"variablesReference": byName["Parameters"]}).Variables
	given := parameters[1]
	assert.Equal(t, []any{"given", 2304}, []any{given.Name, given.IndexedVariables})
	page := gets[variablesOf](e, "variables", anything{"variablesReference": given.VariablesReference, "filter": "indexed", "start": 2300, "count": 10}).Variables
	require.Len(t, page, 4)
	assert.Equal(t, "given[2303]", page[3].EvaluateName)
	assert.Empty(t, gets[variablesOf](e, "variables", anything{"variablesReference": given.VariablesReference, "filter": "named"}).Variables)
	assert.Equal(t, "true", gets[anything](e, "evaluate", anything{"expression": "clearance < 0.3", "frameId": top.ID, "context": "watch"})["result"])
	assert.Positive(t, gets[anything](e, "evaluate", anything{"expression": "b.Vessel", "frameId": top.ID, "context": "hover"})["variablesReference"])
	assert.False(t, e.asks("evaluate", anything{"expression": "1 +"}).Success)

	// Back through the writes of a value, to a checkpoint on a line with a condition, and to a function.
	watch := gets[anything](e, "dataBreakpointInfo", anything{"variablesReference": byName["Locals"], "name": "clearance"})
	require.NotNil(t, watch["dataId"])
	gets[anything](e, "setDataBreakpoints", anything{"breakpoints": []any{anything{"dataId": watch["dataId"], "accessType": "write"}}})
	gets[anything](e, "reverseContinue", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	assert.Equal(t, "data breakpoint", stopped["reason"])
	assert.Equal(t, 75, e.stands(stopped).StackFrames[0].Line, "the line that writes it")
	gets[anything](e, "setDataBreakpoints", anything{"breakpoints": []any{}})

	berth := filepath.Join(source, "berth", "berth.go")
	set := gets[struct {
		Breakpoints []struct {
			Verified bool
			Message  string
			Line     int
		}
	}](e, "setBreakpoints", anything{"source": anything{"path": berth}, "breakpoints": []any{
		anything{"line": 63, "condition": "clearance > 0.5 && clearance < 0.6 && vessel.Name == 'Halcyon Drift'"}, anything{"line": 65}, anything{"line": 67, "logMessage": "{vessel.Name} at {quay.Name} {"}}})
	require.Len(t, set.Breakpoints, 3)
	assert.True(t, set.Breakpoints[0].Verified)
	if assert.False(t, set.Breakpoints[1].Verified) {
		assert.Contains(t, set.Breakpoints[1].Message, "the nearest that do are")
	}
	gets[anything](e, "reverseContinue", anything{"threadId": 1})
	stopped, said := e.waits("stopped")
	assert.Equal(t, "breakpoint", stopped["reason"])
	logged := strings.Count(said, "\n")
	assert.Greater(t, logged, 10)
	assert.Contains(t, said, "\"Sandpiper Friend\" at \"Kelp Quay 1\" {\n")
	at := e.stands(stopped).StackFrames[0]
	assert.Equal(t, []any{"berthing/berth.(*Harbour).Assign", 63}, []any{at.Name, at.Line})
	lines := gets[struct{ Breakpoints []struct{ Line int } }](e, "breakpointLocations", anything{"source": anything{"path": berth}, "line": 60, "endLine": 64})
	assert.NotEmpty(t, lines.Breakpoints)
	gets[anything](e, "stepIn", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	forward := e.stands(stopped).StackFrames[0].Line
	gets[anything](e, "stepBack", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	assert.Equal(t, 63, e.stands(stopped).StackFrames[0].Line, "from %d", forward)
	gets[anything](e, "restartFrame", anything{"frameId": e.stands(stopped).StackFrames[0].ID})
	stopped, _ = e.waits("stopped")
	assert.Equal(t, "restart", stopped["reason"])
	assert.LessOrEqual(t, e.stands(stopped).StackFrames[0].Line, 56)
	gets[anything](e, "stepOut", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	assert.Equal(t, "main.run", e.stands(stopped).StackFrames[0].Name)

	gets[anything](e, "setBreakpoints", anything{"source": anything{"path": berth}, "breakpoints": []any{}})
	gets[anything](e, "setFunctionBreakpoints", anything{"breakpoints": []any{anything{"name": "Book.Apply", "hitCondition": ">= 2"}}})
	gets[anything](e, "reverseContinue", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	assert.Equal(t, "function breakpoint", stopped["reason"])
	assert.Contains(t, e.stands(stopped).StackFrames[0].Name, "Apply")
	gets[anything](e, "reverseContinue", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	assert.Equal(t, "entry", stopped["reason"], "the first call is not the second hit: the beginning is reached")
	gets[anything](e, "setFunctionBreakpoints", anything{"breakpoints": []any{}})
	gets[anything](e, "setExceptionBreakpoints", anything{"filters": []any{"errors"}})
	gets[anything](e, "continue", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	assert.Equal(t, "exception", stopped["reason"])

	for _, changing := range []string{"setVariable", "setExpression", "goto", "terminateThreads", "writeMemory", "restart", "nonsense"} {
		m := e.asks(changing, anything{})
		assert.False(t, m.Success, changing)
		assert.Contains(t, m.Message, "not supported")
	}
	assert.False(t, e.asks("variables", anything{"variablesReference": byName["Locals"]}).Success, "the replay has gone on")
	assert.False(t, e.asks("scopes", anything{"frameId": -1}).Success)
	assert.False(t, e.asks("stackTrace", anything{"threadId": "one"}).Success)
	e.write(`{"seq":"x"}`)
	assert.False(t, e.read().Success)
	gets[anything](e, "disconnect", anything{})
	require.NoError(t, <-e.ended)
}

// An editor without the source gets it from the evidence; it can begin at the beginning, and listen on a port; a dump has memory and
// instructions; what is not the protocol ends the session with an error.
func TestEditorsOfAllKinds(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	e := ines.edit(t, failingRun(t), "--folder", t.TempDir())
	stopped := e.begins(anything{"start": "beginning"})
	assert.Equal(t, "entry", stopped["reason"])
	gets[anything](e, "setBreakpoints", anything{"source": anything{"path": "/somewhere/else/berthing/main.go"}, "breakpoints": []any{anything{"line": 40}}})
	gets[anything](e, "continue", anything{"threadId": 1})
	stopped, _ = e.waits("stopped")
	at := e.stands(stopped).StackFrames[0]
	assert.Equal(t, 40, at.Line)
	require.Positive(t, at.Source.SourceReference)
	assert.Contains(t, gets[anything](e, "source", anything{"sourceReference": at.Source.SourceReference, "source": anything{"sourceReference": at.Source.SourceReference}})["content"], "package main")
	assert.False(t, e.asks("source", anything{"sourceReference": 99}).Success)
	gets[anything](e, "terminate", anything{})
	e.waits("terminated")

	for _, bad := range []string{"Content-Length: 99999999999\r\n\r\n", "Hello: 1\r\n\r\n", strings.Repeat("x", 10_000), "Content-Length: -1\r\n\r\n", "Content-Length: 50\r\n\r\n{}"} {
		r := ines.wraith(t, bad, "editor", failingRun(t))
		assert.NotZero(t, r.code, bad[:min(len(bad), 30)])
		assert.NotEqual(t, 4, r.code)
	}
	assert.Equal(t, 2, ines.wraith(t, "", "editor", failingRun(t), "--listen", "0.0.0.0:0").code)

	c := exec.Command(filepath.Join(work, "wraith"), "--config", ines.config, "editor", failingRun(t), "--listen", "127.0.0.1:0")
	waiting, err := c.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill() })
	line, err := bufio.NewReader(waiting).ReadString('\n')
	require.NoError(t, err)
	for range 2 { // one editor after the other
		conn, err := net.Dial("tcp", strings.TrimSpace(strings.TrimPrefix(line, "waiting for an editor on ")))
		require.NoError(t, err)
		x := &anEditor{t: t, out: conn, in: bufio.NewReader(conn)}
		assert.Equal(t, "exception", x.begins(anything{})["reason"])
		gets[anything](x, "disconnect", anything{})
		require.NoError(t, conn.Close())
	}

	dump, binary := stuckDump(t)
	d := ines.edit(t, dump, "--binary", binary)
	stopped = d.begins(anything{})
	assert.Equal(t, "exception", stopped["reason"])
	top := d.stands(stopped).StackFrames[0]
	require.NotEmpty(t, top.InstructionPointerReference)
	code := gets[struct{ Instructions []anything }](d, "disassemble", anything{"memoryReference": top.InstructionPointerReference, "instructionOffset": -2, "instructionCount": 5})
	require.Len(t, code.Instructions, 5)
	assert.Equal(t, top.InstructionPointerReference, code.Instructions[2]["address"])
	memory := gets[anything](d, "readMemory", anything{"memoryReference": top.InstructionPointerReference, "count": 16})
	bytes, err := base64.StdEncoding.DecodeString(fmt.Sprint(memory["data"]))
	require.NoError(t, err)
	assert.Len(t, bytes, 16)
	assert.False(t, d.asks("reverseContinue", anything{"threadId": 1}).Success, "it has one moment")
}

// An editor follows the team's sitting, and leads it.
func TestAnEditorInASitting(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	withEvidence(t, ines, tomas)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	lead := ines.edit(t, run, "--sitting")
	lead.begins(anything{})
	follower := tomas.edit(t, run, "--sitting")
	follower.begins(anything{})
	gets[anything](lead, "stepBack", anything{"threadId": 1})
	stopped, _ := lead.waits("stopped")
	line := lead.stands(stopped).StackFrames[0].Line
	for began := time.Now(); time.Since(began) < 30*time.Second; {
		stopped, _ = follower.waits("stopped")
		if follower.stands(stopped).StackFrames[0].Line == line {
			return
		}
	}
	t.Fatal("the editor does not follow")
}
