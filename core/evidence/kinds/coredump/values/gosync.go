package values

import (
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// goSync describes what a value of Go's packages sync and sync/atomic is for its users: its parts say it in bits. The text is
// empty for other types, and for releases whose parts have other names.
func goSync(t *debuginfo.Type, v event.Value) string {
	switch {
	case strings.HasPrefix(t.Name, "sync/atomic."):
		x, ok := partOf(v, "v")
		switch {
		case !ok || x.State != event.Known:
			return ""
		case t.Name == "sync/atomic.Bool":
			return fmt.Sprint(x.Uint != 0)
		case x.Form() == event.Int:
			return fmt.Sprint(x.Int)
		case x.Form() == event.Uint:
			return fmt.Sprint(x.Uint)
		}
	case t.Name == "sync.WaitGroup":
		if state, ok := partOf(v, "state", "v"); ok && state.Form() == event.Uint {
			// The counter is in the upper half; the lower one has the waiters, and since Go 1.25 a flag.
			return fmt.Sprintf("counter %d, %d waiting", int32(state.Uint>>32), state.Uint&0x7fffffff)
		}
	case t.Name == "sync.Mutex" || t.Name == "internal/sync.Mutex":
		if state, ok := mutexState(v); ok {
			return mutexText(state)
		}
	case t.Name == "sync.RWMutex":
		readers, ok1 := partOf(v, "readerCount", "v")
		writer, ok2 := partOf(v, "w")
		state, ok3 := mutexState(writer)
		const pending = 1 << 30 // is subtracted while a writer has or wants the lock
		switch {
		case !ok1 || !ok2 || !ok3 || readers.Form() != event.Int:
		case readers.Int < 0:
			return fmt.Sprintf("locked for writing, or about to be; %d reading or waiting to", readers.Int+pending)
		case readers.Int > 0:
			return fmt.Sprintf("locked for reading by %d", readers.Int)
		case state&1 != 0:
			return "about to be locked for writing"
		default:
			return "unlocked"
		}
	case t.Name == "sync.Once":
		if done, ok := partOf(v, "done", "v"); ok && done.State == event.Known {
			return map[bool]string{true: "done", false: "not done"}[done.Uint != 0]
		}
	}
	return ""
}

// mutexState returns the bits of a sync.Mutex, which are in an inner one since Go 1.24.
func mutexState(v event.Value) (int64, bool) {
	for _, path := range [][]string{{"mu", "state"}, {"state"}} {
		if state, ok := partOf(v, path...); ok && state.State == event.Known && state.Form() == event.Int {
			return state.Int, true
		}
	}
	return 0, false
}

// mutexText describes the bits of a mutex: locked, woken, starving, and the number of waiters (internal/sync/mutex.go).
func mutexText(state int64) string {
	if state == 0 {
		return "unlocked"
	}
	text := "unlocked"
	if state&1 != 0 {
		text = "locked"
	}
	if waiting := state >> 3; waiting > 0 {
		text += fmt.Sprintf(", %d waiting", waiting)
	}
	return text
}

// partOf returns the field of a struct at the end of a path of names.
func partOf(v event.Value, names ...string) (event.Value, bool) {
	for _, name := range names {
		if v.Form() != event.Struct {
			return v, false
		}
		found := false
		for i, f := range v.Type.Fields {
			if f.Name == name && i < len(v.Items) {
				v, found = v.Items[i], true
				break
			}
		}
		if !found {
			return v, false
		}
	}
	return v, v.State == event.Known
}
