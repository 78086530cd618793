package state

import (
	"cmp"
	"regexp"
	"strconv"
	"strings"
	"syscall"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/traceback"
)

// Text implements replay.History.
func (r *Log) Text(at event.Moment) string {
	if r.Check(at) != nil {
		return ""
	}
	switch r.T.Kind(at) {
	case event.Output, event.Message:
		return r.FirstText(at, "")
	case event.Error:
		return r.ReportedError(at)
	case event.Panic:
		if text := r.runtimePanic(at); text != "" {
			return text
		}
		return r.FirstText(at, r.T.Kind(at).String())
	case event.Failure:
		return r.FirstText(at, r.T.Kind(at).String())
	case event.Leave:
		if i := r.T.ErrorReturns().Before(at); i >= 0 && r.T.ErrorReturns().At(i) == at {
			v := r.ReturnedError(at)
			if len(v.Items) == 1 && v.Items[0].Type != nil {
				return v.Items[0].Type.Name + ": " + strings.Join(r.Causes(v), "; caused by ")
			}
			return strings.Join(r.Causes(v), "; caused by ")
		}
	}
	return ""
}

// ErrorAt returns the type and message of an error moment.
func (r *Log) ErrorAt(m event.Moment) string {
	switch r.T.Kind(m) {
	case event.Leave:
		v := r.ReturnedError(m)
		text := v.TypeName()
		for _, cause := range r.Causes(v) {
			text += " " + cause
		}
		return text
	case event.Panic, event.Failure:
		return r.T.Kind(m).String() + " " + cmp.Or(r.runtimePanic(m), r.FirstText(m, ""))
	case event.Error:
		return r.ReportedError(m) + " " + r.FirstText(m, "")
	}
	return ""
}

// runtimePanic returns the message of a panic of the language's runtime, whose event has no value: that with
// which it was recovered, or, if it ended the process, that in the crash text. It is empty for any
// other moment.
func (r *Log) runtimePanic(m event.Moment) string {
	if r.T.Kind(m) != event.Panic || r.T.Event(m).Args > 0 {
		return ""
	}
	process, thread := r.T.Process(m), r.T.Thread(m)
	if text := r.recovered(m, thread); text != "" {
		return text
	}
	text, ok := strings.CutPrefix(r.T.Ends[process].Crash, "panic: ")
	if !ok {
		return ""
	}
	panics := r.T.Notable(event.Panic)
	for i := panics.Len() - 1; i >= 0 && panics.At(i) > m; i-- {
		if r.T.Process(panics.At(i)) == process {
			return "" // a later one did
		}
	}
	if number := crashed.FindStringSubmatch(text); number == nil || number[1] != strconv.FormatUint(r.T.ThreadInfo(thread).Number, 10) {
		return "" // on another goroutine
	}
	text, _, _ = strings.Cut(text, "\n")
	return strings.TrimSpace(text)
}

// maxRecovers limits the moments that are looked at for the end of a panic.
const maxRecovers = 1000

// recovered returns the message with which a thread recovered a panic.
func (r *Log) recovered(m event.Moment, thread event.ThreadID) string {
	list := r.T.Notable(event.Recover)
	for i, n := list.Before(m)+1, 0; i < list.Len() && n < maxRecovers; i, n = i+1, n+1 {
		if at := list.At(i); r.T.Thread(at) == thread {
			panics := r.T.Notable(event.Panic)
			if k := panics.Before(at); k >= 0 && panics.At(k) > m && r.T.Thread(panics.At(k)) == thread {
				return "" // of a later panic
			}
			return r.FirstText(at, "")
		}
	}
	return ""
}

// crashed matches the first goroutine of a crash text, which crashed.
var crashed = regexp.MustCompile(`(?m)^goroutine (\d+) `)

// Unwound reports whether a call was left by a panic or by the end of its thread.
func (r *Log) Unwound(c event.CallID) bool {
	left := r.T.Call(c).Leave
	return left != event.NoMoment && r.T.Kind(left) == event.Unwind
}

// FirstText renders the first value of the event at a moment.
func (r *Log) FirstText(m event.Moment, otherwise string) string {
	values, err := r.T.Values(m)
	if err != nil || len(values) == 0 {
		return otherwise
	}
	v := replay.Value{Value: values[0], Memory: r.MemoryAt(r.T.Process(m), m, 0)}
	if v.Form() == event.Text {
		return v.Value.Text
	}
	if text := r.ErrorText(v); text != "" {
		return text
	}
	return v.Text()
}

func (r *Log) ReturnedError(m event.Moment) replay.Value {
	values, err := r.T.Values(m)
	if err != nil || len(values) == 0 {
		return replay.Value{}
	}
	return replay.Value{Value: values[len(values)-1], Memory: r.MemoryAt(r.T.Process(m), m, 0)}
}

// ErrorText finds the message of an error without calling methods: in the fields of the standard
// library's errors, or in the result of a recorded call of its Error method.
func (r *Log) ErrorText(v replay.Value) string {
	if v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.With(v.Items[0])
	}
	if v.Type == nil {
		return ""
	}
	fields := v
	if v.Form() == event.Pointer && v.Address != 0 {
		fields = v.Deref()
	}
	switch v.Type.Name {
	case "*errors.errorString":
		return fields.Field("s").Value.Text
	case "*fmt.wrapError", "*fmt.wrapErrors", "*json.SyntaxError":
		return fields.Field("msg").Value.Text
	case "*errors.joinError":
		return r.joined(fields.Field("errs"))
	case "*fs.PathError":
		return fields.Field("Op").Value.Text + " " + fields.Field("Path").Value.Text + r.after(fields.Field("Err"))
	case "*strconv.NumError":
		return "strconv." + fields.Field("Func").Value.Text + ": parsing " + strconv.Quote(fields.Field("Num").Value.Text) + r.after(fields.Field("Err"))
	case "*url.Error":
		return fields.Field("Op").Value.Text + " " + strconv.Quote(fields.Field("URL").Value.Text) + r.after(fields.Field("Err"))
	case "*os.SyscallError":
		return fields.Field("Syscall").Value.Text + r.after(fields.Field("Err"))
	case "syscall.Errno":
		if v.State == event.Known {
			return syscall.Errno(v.Uint).Error()
		}
	}
	if text := runtimeError(v); text != "" {
		return text
	}
	return r.errorMethodResult(v)
}

// after returns the message of an error that another one ends with; empty if it is not known.
func (r *Log) after(v replay.Value) string {
	if text := r.ErrorText(v); text != "" {
		return ": " + text
	}
	return ""
}

// maxJoined limits the errors of a joined error.
const maxJoined = 64

// joined returns the messages of joined errors, each on a line (package errors, Join).
func (r *Log) joined(list replay.Value) string {
	var lines []string
	for i := range min(list.Length, maxJoined) {
		x := list.Element(i)
		text := r.ErrorText(x)
		if text == "" {
			text = x.Text()
		}
		lines = append(lines, text)
	}
	return strings.Join(lines, "\n")
}

func (r *Log) errorMethodResult(v replay.Value) string {
	short := strings.TrimPrefix(v.Type.Name, "*")
	if i := strings.LastIndexByte(short, '.'); i >= 0 {
		short = short[i+1:]
	}
	for id, f := range r.T.Functions {
		if !strings.HasSuffix(f.Name, "(*"+short+").Error") && !strings.HasSuffix(f.Name, "."+short+".Error") {
			continue
		}
		calls := r.T.Enters(id)
		for i := range min(calls.Len(), maxErrorCalls) {
			enter := calls.At(i)
			left := r.T.Call(r.T.CallOf(enter)).Leave
			receiver, err := r.T.Values(enter)
			if left == event.NoMoment || err != nil || len(receiver) == 0 || receiver[0].Type != v.Type {
				continue
			}
			of := replay.Value{Value: receiver[0], Memory: r.MemoryAt(r.T.Process(enter), enter, 0)}
			if replay.Identity(of.Value) != replay.Identity(v.Value) || v.Form() == event.Pointer && replay.Identity(of.Deref().Value) != replay.Identity(v.Deref().Value) {
				continue // another error of the type, or what it was earlier
			}
			if result, err := r.T.Values(left); err == nil && len(result) == 1 {
				return result[0].Text
			}
		}
	}
	return ""
}

// maxErrorCalls limits the calls of an Error method that are examined.
const maxErrorCalls = 10000

// Causes lists the messages of an error and of the errors that it wraps.
func (r *Log) Causes(v replay.Value) []string {
	var out []string
	for range 16 {
		if v.Form() == event.Interface && len(v.Items) == 1 {
			v = v.With(v.Items[0])
		}
		if v.State != event.Known || v.Nil || v.Type == nil {
			break
		}
		text := r.ErrorText(v)
		if text == "" {
			text = v.Text()
		}
		out = append(out, text)
		wrapped := replay.Value{}
		for _, name := range v.Fields() {
			if f := v.Field(name); f.Type != nil && f.Type.Name == "error" && f.State == event.Known && !f.Nil {
				wrapped = f
				break
			}
		}
		if wrapped.Type == nil {
			break
		}
		v = wrapped
	}
	return out
}

// ReportedError returns the type, if any, and the message of an error moment.
func (r *Log) ReportedError(m event.Moment) string {
	cause := r.CauseAt(m)
	said := r.FirstText(m, "")
	switch {
	case said != "" && cause.Type != "" && said != cause.Message && !strings.Contains(said, cause.Message) && !strings.Contains(said, cause.Type) && !traceback.EndsProgram(said):
		return said + ": " + strings.TrimSuffix(cause.Type+": "+cause.Message, ": ")
	case cause.Type == "" || strings.HasPrefix(cause.Message, cause.Type+":"):
		return cause.Message
	case cause.Message == "" || cause.Message == cause.Type:
		return cause.Type
	}
	return cause.Type + ": " + cause.Message
}

func (r *Log) CauseAt(m event.Moment) replay.Cause {
	c := r.T.CallOf(m)
	cause := replay.Cause{Message: r.FirstText(m, "")}
	values, err := r.T.Values(m)
	if err != nil || c == event.NoCall {
		return cause
	}
	f := r.T.FunctionOf(c)
	for i, id := range r.T.Site(m).Values {
		if i >= len(values) || int(id) >= len(f.Variables) {
			continue
		}
		switch f.Variables[id].Name {
		case "exception.type":
			cause.Type = values[i].Text
		case "exception.message":
			cause.Message = values[i].Text
		}
	}
	return cause
}
