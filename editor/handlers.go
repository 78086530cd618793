package editor

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/google/go-dap"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/locator"
)

// handlers are the requests that a replay can answer. All others are refused.
var handlers = map[string]handler{
	"initialize": answer(initialize), "launch": answer(launch), "attach": answer(launch), "configurationDone": answer(configured), "disconnect": answer(nothing), "terminate": answer(terminate),
	"threads": answer(threads), "stackTrace": answer(stackTrace), "scopes": answer(scopes), "variables": answer(variables), "evaluate": answer(evaluate), "source": answer(source),
	"setBreakpoints": answer(setLines), "setFunctionBreakpoints": answer(setFunctions), "setExceptionBreakpoints": answer(setErrors), "dataBreakpointInfo": answer(valueInfo), "setDataBreakpoints": answer(setValues),
	"breakpointLocations": answer(locations), "exceptionInfo": answer(failureInfo), "readMemory": answer(readMemory), "disassemble": answer(disassemble),
	"next": step("over", false), "stepIn": step("into", false), "stepOut": step("out", false), "stepBack": step("over", true),
	"continue": run(false), "reverseContinue": run(true), "restartFrame": answer(restartFrame), "pause": answer(pause),
}

// errorFilter is the one filter for errors: everything that a recording knows as an error or a panic.
const errorFilter = "errors"

func initialize(_ context.Context, s *Session, a dap.InitializeRequestArguments) (any, func(), error) {
	if !a.LinesStartAt1 {
		s.lineBase = 0
	}
	return dap.Capabilities{SupportsConfigurationDoneRequest: true, SupportsFunctionBreakpoints: true, SupportsConditionalBreakpoints: true, SupportsHitConditionalBreakpoints: true,
		SupportsEvaluateForHovers: true, SupportsStepBack: true, SupportsRestartFrame: true, SupportsExceptionInfoRequest: true, SupportsDelayedStackTraceLoading: true, SupportsLogPoints: true,
		SupportsDataBreakpoints: true, SupportsReadMemoryRequest: true, SupportsDisassembleRequest: true, SupportsBreakpointLocationsRequest: true, SupportsTerminateRequest: true,
		ExceptionBreakpointFilters: []dap.ExceptionBreakpointsFilter{{Filter: errorFilter, Label: "Errors and panics", Description: "every recorded error and panic"}}}, nil, nil
}

// launchArguments are the arguments of launch and attach.
type launchArguments struct {
	Start string `json:"start"`
}

func launch(ctx context.Context, s *Session, a launchArguments) (any, func(), error) {
	at, err := startAt(a.Start)
	if err != nil {
		return nil, nil, err
	}
	s.start, s.startAt = a.Start, at
	if s.peek, err = client.Put(ctx, s.of, ask.PeekRequest{}); err != nil {
		return nil, nil, err
	}
	return nil, func() {
		if s.isSnapshot() {
			s.event("capabilities", dap.CapabilitiesEventBody{Capabilities: dap.Capabilities{SupportsEvaluateForHovers: true}})
		}
		s.event("initialized", nil)
	}, nil
}

// startAt returns the place at which a session starts that gives a moment, as @4711 or @4711#2; nil for one that gives none.
func startAt(text string) (*ask.Place, error) {
	if text == "" || text == "beginning" || text == "failure" {
		return nil, nil
	}
	l, err := locator.Parse("evidence" + text)
	if err != nil || !strings.HasPrefix(text, "@") || l.Moment == event.NoMoment {
		return nil, fault.InvalidRequest.New("", "invalid start %q: use \"beginning\", \"failure\" or a moment, as \"@4711\"", text)
	}
	return &ask.Place{Moment: l.Moment, Thread: l.Thread}, nil
}

func configured(ctx context.Context, s *Session, _ struct{}) (any, func(), error) {
	if s.peek.Evidence.Kind == "" {
		return nil, nil, fault.InvalidRequest.New("", "configurationDone before launch")
	}
	p, reason, text := ask.Place{Moment: event.NoMoment}, "pause", "the end of the recording"
	switch f := s.peek.Failure; {
	case s.waiting != nil:
		p, reason, text = *s.waiting, "goto", "the sitting is here"
	case s.startAt != nil:
		p, reason, text = *s.startAt, "entry", fmt.Sprintf("moment %d", s.startAt.Moment)
	case s.start == "beginning":
		p.Moment, reason, text = 0, "entry", "the beginning of the recording"
	case f != nil:
		p, reason, text = ask.Place{Moment: f.Moment, Thread: f.Thread}, "exception", f.Summary
	}
	stack, err := client.Put(ctx, s.of, ask.StackRequest{Place: p, Frames: 1})
	if err != nil {
		return nil, nil, err
	}
	p.Moment = stack.Moment
	if len(stack.Threads) > 0 {
		p.Thread = stack.Threads[0].ID
	}
	s.started = true
	return nil, func() { s.arrive(p, reason, text) }, nil
}

func nothing(context.Context, *Session, json.RawMessage) (any, func(), error) { return nil, nil, nil }

func terminate(_ context.Context, s *Session, _ struct{}) (any, func(), error) {
	return nil, func() { s.event("terminated", nil) }, nil
}

// ready returns an error before configurationDone.
func (s *Session) ready() error {
	if !s.started {
		return fault.InvalidRequest.New("", "the session has not begun: send launch and configurationDone first")
	}
	return nil
}

func threads(ctx context.Context, s *Session, _ struct{}) (any, func(), error) {
	out := dap.ThreadsResponseBody{Threads: []dap.Thread{}}
	if !s.started {
		return out, nil, nil
	}
	stacks, err := client.Put(ctx, s.of, ask.StackRequest{Place: s.place, All: true, Frames: 1})
	for _, t := range stacks.Threads {
		out.Threads = append(out.Threads, dap.Thread{Id: int(t.ID), Name: strings.TrimSpace(t.Name + " " + t.State)})
	}
	return out, nil, err
}

// mostFrames limits the frames of one request without a number of levels.
const mostFrames = 1000

func stackTrace(ctx context.Context, s *Session, a dap.StackTraceArguments) (any, func(), error) {
	if err := s.ready(); err != nil {
		return nil, nil, err
	}
	if a.StartFrame < 0 || a.Levels < 0 {
		return nil, nil, fault.InvalidRequest.New("", "startFrame and levels must be at least 0")
	}
	p := ask.Place{Moment: s.place.Moment, Thread: event.ThreadID(a.ThreadId)}
	stack, err := client.Put(ctx, s.of, ask.StackRequest{Place: p, Frames: a.StartFrame + cmp.Or(a.Levels, mostFrames) + 1})
	if err != nil {
		return nil, nil, err
	}
	out := dap.StackTraceResponseBody{StackFrames: []dap.StackFrame{}}
	for _, t := range stack.Threads {
		out.TotalFrames = len(t.Frames)
		for i, f := range t.Frames {
			if i < a.StartFrame || a.Levels > 0 && i >= a.StartFrame+a.Levels {
				continue
			}
			p.Frame = f.Index
			x := dap.StackFrame{Id: s.refs.frame(p), Name: f.Function, CanRestart: !s.isSnapshot() && f.Own, InstructionPointerReference: f.PC}
			if !f.Own {
				x.PresentationHint = "subtle"
			}
			if f.File != "" {
				x.Source = s.sourceOf(f.File)
				x.Line, x.Column = f.Line-1+s.lineBase, s.lineBase
			}
			out.StackFrames = append(out.StackFrames, x)
		}
	}
	return out, nil, nil
}

// sourceOf names a file for the editor: by its path if it is in the folder of the source, else by a number by which the editor asks for
// its recorded text.
func (s *Session) sourceOf(file string) *dap.Source {
	at := file
	if !filepath.IsAbs(at) {
		at = filepath.Join(s.folder, file)
	}
	if info, err := os.Stat(at); err == nil && info.Mode().IsRegular() {
		return &dap.Source{Name: filepath.Base(file), Path: at}
	}
	return &dap.Source{Name: filepath.Base(file), Path: file, SourceReference: s.refs.file(file), Origin: "recorded source"}
}

func source(ctx context.Context, s *Session, a dap.SourceArguments) (any, func(), error) {
	ref := a.SourceReference
	if a.Source != nil && ref == 0 {
		ref = a.Source.SourceReference
	}
	name, ok := s.refs.files[ref]
	if !ok {
		return nil, nil, fault.InvalidRequest.New("", "unknown sourceReference %d", ref)
	}
	f, err := client.Put(ctx, s.of, ask.FileRequest{File: name})
	return dap.SourceResponseBody{Content: f.Text}, nil, err
}

var scopeNames = map[string]string{"parameter": "Parameters", "return": "Results", "local": "Locals", "global": "Globals", "register": "Registers"}

func scopes(ctx context.Context, s *Session, a dap.ScopesArguments) (any, func(), error) {
	p, ok := s.refs.frames[a.FrameId]
	if !ok {
		return nil, nil, fault.InvalidRequest.New("", "unknown frameId %d: the replay has gone on", a.FrameId)
	}
	values, err := client.Put(ctx, s.of, ask.ValuesRequest{Place: p, Width: 8})
	if err != nil {
		return nil, nil, err
	}
	out := dap.ScopesResponseBody{Scopes: []dap.Scope{}}
	for _, scope := range []string{"parameter", "return", "local", "global", "register"} {
		n := 0
		for _, v := range values.Variables {
			if v.Scope == scope {
				n++
			}
		}
		if n > 0 {
			hint := map[string]string{"parameter": "arguments", "local": "locals", "register": "registers"}[scope]
			out.Scopes = append(out.Scopes, dap.Scope{Name: scopeNames[scope], PresentationHint: hint, VariablesReference: s.refs.values(holder{place: p, scope: scope, count: n}), NamedVariables: n})
		}
	}
	return out, nil, nil
}

// mostVariables limits the variables of one request without a number of them.
const mostVariables = 1000

func variables(ctx context.Context, s *Session, a dap.VariablesArguments) (any, func(), error) {
	h, ok := s.refs.holders[a.VariablesReference]
	if !ok {
		return nil, nil, fault.InvalidRequest.New("", "unknown variablesReference %d: the replay has gone on", a.VariablesReference)
	}
	if a.Start < 0 || a.Count < 0 {
		return nil, nil, fault.InvalidRequest.New("", "start and count must be at least 0")
	}
	out := dap.VariablesResponseBody{Variables: []dap.Variable{}}
	if a.Filter == "indexed" && !h.indexed || a.Filter == "named" && h.indexed {
		return out, nil, nil
	}
	var list []ask.Variable
	if h.path == "" {
		values, err := client.Put(ctx, s.of, ask.ValuesRequest{Place: h.place, Width: 8})
		if err != nil {
			return nil, nil, err
		}
		for _, v := range values.Variables {
			if v.Scope == h.scope {
				list = append(list, v)
			}
		}
		list = list[min(a.Start, len(list)):]
		list = list[:min(cmp.Or(a.Count, mostVariables), len(list))]
	} else {
		v, err := client.Put(ctx, s.of, ask.PartsRequest{Place: h.place, Path: h.path, From: a.Start, Count: min(cmp.Or(a.Count, mostVariables), 10_000)})
		if err != nil {
			return nil, nil, err
		}
		list = v.Children
	}
	for _, v := range list {
		out.Variables = append(out.Variables, s.variable(h.place, v))
	}
	return out, nil, nil
}

// variable writes a value for the editor. What is not known says why.
func (s *Session) variable(p ask.Place, v ask.Variable) dap.Variable {
	out := dap.Variable{Name: v.Name, Value: v.Value, Type: v.Type, EvaluateName: v.Path}
	if v.State != "known" {
		out.Value = "<" + strings.ReplaceAll(v.State, "-", " ") + ">"
		if v.Why != "" {
			out.Value = "<" + strings.ReplaceAll(v.State, "-", " ") + ": " + v.Why + ">"
		}
		out.PresentationHint = &dap.VariablePresentationHint{Attributes: []string{"readOnly"}}
	}
	if v.Count > 0 {
		indexed := strings.HasPrefix(v.Type, "[")
		out.VariablesReference = s.refs.values(holder{place: p, path: v.Path, count: v.Count, indexed: indexed})
		if indexed {
			out.IndexedVariables = v.Count
		} else {
			out.NamedVariables = v.Count
		}
	}
	if strings.HasPrefix(v.Object, "0x") && s.peek.Evidence.Traits.Memory {
		out.MemoryReference = v.Object
	}
	return out
}

func evaluate(ctx context.Context, s *Session, a dap.EvaluateArguments) (any, func(), error) {
	if err := s.ready(); err != nil {
		return nil, nil, err
	}
	p := s.place
	if a.FrameId != 0 {
		var ok bool
		if p, ok = s.refs.frames[a.FrameId]; !ok {
			return nil, nil, fault.InvalidRequest.New("", "unknown frameId %d: the replay has gone on", a.FrameId)
		}
	}
	x, err := client.Put(ctx, s.of, ask.ExpressionRequest{Place: p, Expression: a.Expression})
	if err != nil {
		return nil, nil, err
	}
	out := dap.EvaluateResponseBody{Result: x.Value, Type: x.Type}
	if x.Why != "" {
		out.Result += " (" + x.Why + ")"
	}
	// What is a path has parts.
	if v, err := client.Put(ctx, s.of, ask.PartsRequest{Place: p, Path: a.Expression, Count: 1}); err == nil && v.Count > 0 {
		v.Path = a.Expression
		got := s.variable(p, v)
		out.VariablesReference, out.NamedVariables, out.IndexedVariables = got.VariablesReference, got.NamedVariables, got.IndexedVariables
	}
	return out, nil, nil
}

func setLines(ctx context.Context, s *Session, a dap.SetBreakpointsArguments) (any, func(), error) {
	if s.peek.Evidence.Kind == "" {
		return nil, nil, fault.InvalidRequest.New("", "setBreakpoints before launch")
	}
	name := s.recordedFile(ctx, a.Source)
	delete(s.points.files, name)
	out := dap.SetBreakpointsResponseBody{Breakpoints: []dap.Breakpoint{}}
	for _, b := range a.Breakpoints {
		line := b.Line - s.lineBase + 1
		x, got := s.set(ctx, point{on: ask.CheckpointOn{On: fmt.Sprintf("line %s:%d", name, line), When: b.Condition, Nth: nth(b.HitCondition)}, log: b.LogMessage})
		got.Line = b.Line
		if got.Verified {
			s.points.files[name] = append(s.points.files[name], x)
		}
		out.Breakpoints = append(out.Breakpoints, got)
	}
	return out, nil, nil
}

func setFunctions(ctx context.Context, s *Session, a dap.SetFunctionBreakpointsArguments) (any, func(), error) {
	s.points.functions = nil
	out := dap.SetFunctionBreakpointsResponseBody{Breakpoints: []dap.Breakpoint{}}
	for _, b := range a.Breakpoints {
		x, got := s.set(ctx, point{on: ask.CheckpointOn{On: "enter " + b.Name, When: b.Condition, Nth: nth(b.HitCondition)}})
		if got.Verified {
			s.points.functions = append(s.points.functions, x)
		}
		out.Breakpoints = append(out.Breakpoints, got)
	}
	return out, nil, nil
}

func setErrors(ctx context.Context, s *Session, a dap.SetExceptionBreakpointsArguments) (any, func(), error) {
	s.points.errors = nil
	out := dap.SetExceptionBreakpointsResponseBody{Breakpoints: []dap.Breakpoint{}}
	for _, f := range a.Filters {
		if f != errorFilter {
			return nil, nil, fault.InvalidRequest.New("", "unknown filter %q: use %s", f, errorFilter)
		}
		x, got := s.set(ctx, point{on: ask.CheckpointOn{On: "error"}})
		if got.Verified {
			s.points.errors = append(s.points.errors, x)
		}
		out.Breakpoints = append(out.Breakpoints, got)
	}
	return out, nil, nil
}

// dataID names a value: its path, and where that is reached.
type dataID struct {
	ask.Place
	Path string `json:"path"`
}

func valueInfo(ctx context.Context, s *Session, a dap.DataBreakpointInfoArguments) (any, func(), error) {
	if err := s.ready(); err != nil {
		return nil, nil, err
	}
	p, path := s.place, a.Name
	if f, ok := s.refs.frames[a.FrameId]; ok {
		p = f
	}
	if h, ok := s.refs.holders[a.VariablesReference]; ok {
		p = h.place
		if h.path != "" {
			v, err := client.Put(ctx, s.of, ask.PartsRequest{Place: p, Path: h.path, Count: min(max(h.count, 1), 10_000)})
			if err != nil {
				return nil, nil, err
			}
			i := slices.IndexFunc(v.Children, func(c ask.Variable) bool { return c.Name == a.Name })
			if i < 0 {
				return dap.DataBreakpointInfoResponseBody{Description: a.Name + ": no such part"}, nil, nil
			}
			path = v.Children[i].Path
		}
	}
	if _, err := client.Put(ctx, s.of, ask.HitsRequest{Place: p, CheckpointOn: ask.CheckpointOn{On: "write " + path}, Count: 1}); err != nil {
		return dap.DataBreakpointInfoResponseBody{Description: err.Error()}, nil, nil
	}
	id, err := json.Marshal(dataID{p, path})
	if err != nil {
		return nil, nil, fmt.Errorf("name the value: %w", err)
	}
	return dap.DataBreakpointInfoResponseBody{DataId: string(id), Description: path, AccessTypes: []dap.DataBreakpointAccessType{"write"}}, nil, nil
}

func setValues(ctx context.Context, s *Session, a dap.SetDataBreakpointsArguments) (any, func(), error) {
	s.points.values = nil
	out := dap.SetDataBreakpointsResponseBody{Breakpoints: []dap.Breakpoint{}}
	for _, b := range a.Breakpoints {
		var id dataID
		if err := json.Unmarshal([]byte(b.DataId), &id); err != nil {
			return nil, nil, fault.InvalidRequest.New("", "invalid dataId %q: use one of dataBreakpointInfo", b.DataId)
		}
		x, got := s.set(ctx, point{on: ask.CheckpointOn{On: "write " + id.Path, When: b.Condition, Nth: nth(b.HitCondition)}, at: id.Place})
		if got.Verified {
			s.points.values = append(s.points.values, x)
		}
		out.Breakpoints = append(out.Breakpoints, got)
	}
	return out, nil, nil
}

func locations(ctx context.Context, s *Session, a dap.BreakpointLocationsArguments) (any, func(), error) {
	out := dap.BreakpointLocationsResponseBody{Breakpoints: []dap.BreakpointLocation{}}
	f, err := client.Put(ctx, s.of, ask.FileRequest{File: s.recordedFile(ctx, a.Source)})
	if err != nil {
		return out, nil, nil // a file that the evidence does not have has no line that can hold one
	}
	end := max(a.Line, a.EndLine)
	for _, line := range f.Lines {
		if n := line - 1 + s.lineBase; n >= a.Line && n <= end {
			out.Breakpoints = append(out.Breakpoints, dap.BreakpointLocation{Line: n})
		}
	}
	return out, nil, nil
}

func failureInfo(_ context.Context, s *Session, _ dap.ExceptionInfoArguments) (any, func(), error) {
	if s.reason != "exception" {
		return nil, nil, fault.InvalidRequest.New("", "the replay does not stand at an error")
	}
	out := dap.ExceptionInfoResponseBody{ExceptionId: "error", Description: s.text, BreakMode: "always"}
	if f := s.peek.Failure; f != nil && f.Moment == s.place.Moment {
		out.ExceptionId = f.Kind
		details := &dap.ExceptionDetails{Message: f.Summary}
		for _, c := range f.Causes {
			details.InnerException = append(details.InnerException, dap.ExceptionDetails{TypeName: c.Type, Message: c.Message})
		}
		out.Details = details
	}
	return out, nil, nil
}

// stepArguments are those of next, stepIn, stepOut and stepBack.
type stepArguments struct {
	ThreadID int `json:"threadId"`
}

func step(way string, back bool) handler {
	return answer(func(ctx context.Context, s *Session, a stepArguments) (any, func(), error) {
		if err := s.ready(); err != nil {
			return nil, nil, err
		}
		p := ask.Place{Moment: s.place.Moment, Thread: event.ThreadID(a.ThreadID)}
		at, err := client.Put(ctx, s.of, ask.StepRequest{Place: p, Way: way, Back: back, Count: 1})
		if errors.Is(err, fault.NoHistory) {
			return nil, nil, err
		}
		return nil, func() {
			if err != nil { // the thread has no further line
				s.goTo(ctx, s.place, "pause", err.Error())
				return
			}
			s.logBetween(ctx, s.place.Moment, at.Moment)
			text := at.Reason
			if at.Reason == "line" {
				text = ""
			}
			s.goTo(ctx, ask.Place{Moment: at.Moment, Thread: at.Thread}, "step", text)
		}, nil
	})
}

func run(back bool) handler {
	return answer(func(ctx context.Context, s *Session, _ stepArguments) (any, func(), error) {
		if err := s.ready(); err != nil {
			return nil, nil, err
		}
		if s.isSnapshot() {
			return nil, nil, fault.NoHistory
		}
		h, ok, err := s.nearest(ctx, back)
		if err != nil {
			return nil, nil, err
		}
		return dap.ContinueResponseBody{AllThreadsContinued: true}, func() {
			p, reason, text := h.place, "breakpoint", ""
			switch {
			case ok && strings.HasPrefix(h.of.on.On, "error"):
				reason, text = "exception", "an error"
			case ok && strings.HasPrefix(h.of.on.On, "write "):
				reason, text = "data breakpoint", strings.TrimPrefix(h.of.on.On, "write ")+" was written"
			case ok && strings.HasPrefix(h.of.on.On, "enter "):
				reason = "function breakpoint"
			case !ok && back:
				p, reason, text = s.edge(ctx, 0), "entry", "the beginning of the recording"
			case !ok:
				p, reason, text = s.edge(ctx, s.last()), "pause", "the end of the recording"
			}
			s.logBetween(ctx, s.place.Moment, p.Moment)
			s.goTo(ctx, p, reason, text)
		}, nil
	})
}

// edge returns the place at the first or last moment.
func (s *Session) edge(ctx context.Context, m event.Moment) ask.Place {
	p := ask.Place{Moment: m}
	if stack, err := client.Put(ctx, s.of, ask.StackRequest{Place: p, Frames: 1}); err == nil && len(stack.Threads) > 0 {
		p.Thread = stack.Threads[0].ID
	}
	return p
}

func restartFrame(ctx context.Context, s *Session, a dap.RestartFrameArguments) (any, func(), error) {
	p, ok := s.refs.frames[a.FrameId]
	if !ok {
		return nil, nil, fault.InvalidRequest.New("", "unknown frameId %d: the replay has gone on", a.FrameId)
	}
	at, err := client.Put(ctx, s.of, ask.StepRequest{Place: ask.Place{Moment: p.Moment, Thread: p.Thread}, Way: "head", Outer: p.Frame, Count: 1})
	if err != nil {
		return nil, nil, err
	}
	return nil, func() {
		s.goTo(ctx, ask.Place{Moment: at.Moment, Thread: at.Thread}, "restart", "the beginning of the call")
	}, nil
}

func pause(ctx context.Context, s *Session, _ struct{}) (any, func(), error) {
	if err := s.ready(); err != nil {
		return nil, nil, err
	}
	return nil, func() { s.arrive(s.place, "pause", "") }, nil
}

func readMemory(ctx context.Context, s *Session, a dap.ReadMemoryArguments) (any, func(), error) {
	address, err := strconv.ParseUint(a.MemoryReference, 0, 64)
	if err != nil || a.Count < 0 {
		return nil, nil, fault.InvalidRequest.New("", "invalid memoryReference %q or count %d", a.MemoryReference, a.Count)
	}
	address += uint64(a.Offset)
	out := dap.ReadMemoryResponseBody{Address: fmt.Sprintf("0x%x", address)}
	if a.Count == 0 {
		return out, nil, nil
	}
	m, err := client.Put(ctx, s.of, ask.MemoryRequest{Address: ask.Address(address), Count: uint64(min(a.Count, 65536))})
	if err != nil {
		return nil, nil, err
	}
	bytes, err := hex.DecodeString(strings.ReplaceAll(m.Bytes, " ", ""))
	if err != nil {
		return nil, nil, fmt.Errorf("read the memory: %w", err)
	}
	out.Data = base64.StdEncoding.EncodeToString(bytes)
	out.UnreadableBytes = a.Count - len(bytes)
	return out, nil, nil
}

func disassemble(ctx context.Context, s *Session, a dap.DisassembleArguments) (any, func(), error) {
	if err := s.ready(); err != nil {
		return nil, nil, err
	}
	if a.InstructionCount < 0 || a.InstructionCount > 1000 || a.InstructionOffset < -1000 || a.InstructionOffset > 1000 {
		return nil, nil, fault.InvalidRequest.New("", "instructionCount must be 0 to 1000, instructionOffset -1000 to 1000")
	}
	for _, id := range s.refs.frameIDs() {
		x, err := client.Put(ctx, s.of, ask.InstructionsRequest{Place: s.refs.frames[id], Before: max(-a.InstructionOffset, 0), After: max(a.InstructionOffset+a.InstructionCount, 1)})
		if err != nil {
			return nil, nil, err
		}
		here := slices.IndexFunc(x.Instructions, func(i ask.Instruction) bool {
			return strings.EqualFold(fmt.Sprintf("0x%x", uint64(i.Address)), a.MemoryReference)
		})
		if here < 0 {
			continue // another frame is there
		}
		out := dap.DisassembleResponseBody{Instructions: []dap.DisassembledInstruction{}}
		for n := range a.InstructionCount {
			i := here + a.InstructionOffset + n
			if i < 0 || i >= len(x.Instructions) {
				out.Instructions = append(out.Instructions, dap.DisassembledInstruction{Address: "0x0", Instruction: "not known"})
				continue
			}
			at := x.Instructions[i]
			out.Instructions = append(out.Instructions, dap.DisassembledInstruction{Address: fmt.Sprintf("0x%x", uint64(at.Address)), InstructionBytes: at.Bytes, Instruction: at.Text, Symbol: at.Where})
		}
		return out, nil, nil
	}
	return nil, nil, fault.InvalidRequest.New("", "no frame is at %s: only instructions around frames are known", a.MemoryReference)
}
