package traceback

import (
	"encoding/json"
	"slices"
	"strconv"
)

// The names of a frame's parts in the objects that loggers write instead of a text.
var (
	classNames    = []string{"class", "declaringClass", "className", "module"}
	functionNames = []string{"function", "func", "method", "methodName", "name", "declaration"}
	fileNames     = []string{"file", "fileName", "filename", "source", "path", "abs_path"}
	lineNames     = []string{"line", "lineNumber", "lineno", "line_number", "line_no"}
	typeNames     = []string{"exc_type", "type", "exceptionType", "class", "name"}
	messageNames  = []string{"exc_value", "message", "value"}
)

// maxObjects limits the frames that are read from objects.
const maxObjects = 4096

// FromObjects reads frames that a logger wrote as JSON objects, one text each, innermost frame first; or errors that
// have such frames. ok is false if they are neither.
func FromObjects(texts []string) (frames []Frame, cause Cause, ok bool) {
	python := false
	for _, text := range texts[:min(len(texts), maxObjects)] {
		var o map[string]any
		if json.Unmarshal([]byte(text), &o) != nil {
			return nil, Cause{}, false
		}
		if inner := innerFrames(o); inner != nil {
			if frames, _, ok = FromObjects(inner); ok {
				return frames, Cause{textIn(o, typeNames), textIn(o, messageNames)}, true
			}
		}
		f := Frame{Function: textIn(o, functionNames), File: textIn(o, fileNames)}
		if class := textIn(o, classNames); class != "" && f.Function != "" {
			f.Function = class + "." + f.Function
		}
		f.Line, _ = strconv.Atoi(textIn(o, lineNames)) // 0 if unknown
		if f.Function == "" && f.File == "" || f.Line == 0 && f.Function == "" {
			return nil, Cause{}, false
		}
		_, has := o["lineno"]
		python = python || has
		frames = append(frames, f)
	}
	if python { // outermost first
		slices.Reverse(frames)
	}
	return frames, Cause{}, len(frames) > 0
}

// innerFrames returns the frames that an object has as JSON texts, or nil.
func innerFrames(o map[string]any) []string {
	for _, name := range []string{"frames", "stacktrace", "stackTrace", "stack"} {
		v := o[name]
		if m, ok := v.(map[string]any); ok {
			v = m["frames"]
		}
		list, ok := v.([]any)
		if !ok {
			continue
		}
		var out []string
		for _, x := range list[:min(len(list), maxObjects)] {
			if b, err := json.Marshal(x); err == nil {
				out = append(out, string(b))
			}
		}
		return out
	}
	return nil
}

func textIn(o map[string]any, names []string) string {
	for _, name := range names {
		switch v := o[name].(type) {
		case string:
			if v != "" {
				return v
			}
		case float64:
			return strconv.FormatFloat(v, 'f', -1, 64)
		}
	}
	return ""
}
