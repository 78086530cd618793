package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"

	"wraithology/core/evidence"
	"wraithology/core/replay"
	"wraithology/core/structuredlog"
	"wraithology/core/traceback"
)

// standardInput is how standard input is named.
const standardInput = "-"

func kindList() string {
	var names []string
	for _, k := range evidence.Kinds {
		names = append(names, string(k))
	}
	return strings.Join(names, ", ")
}

// openFile opens evidence of this machine.
func (a *app) openFile(ctx context.Context, path string) (replay.Replay, error) {
	as, err := evidence.ParseKind(a.as)
	if err != nil {
		return nil, usageError{err.Error(), "for example --as structured-log"}
	}
	rules, err := structuredlog.ParseRules(a.fields)
	if err != nil {
		return nil, usageError{err.Error(), "for example --field thread=order_id"}
	}
	o := evidence.Options{Timelines: evidence.OwnTimelines(), Artifacts: a.artifacts(), As: as, Rules: rules, Own: traceback.Own(a.own)}
	if path == standardInput {
		if path, err = a.pipe(); err != nil {
			return nil, err
		}
		o.Timelines = evidence.Timelines{} // it will not be asked for again
	}
	progress, end := a.progress("index " + path)
	defer end()
	return evidence.Open(ctx, path, o, progress)
}

// slow is how long something takes before it shows its progress.
const slow = 500 * time.Millisecond

// progress returns what shows the share that is done of something that takes long, on
// a terminal, and what ends that.
func (a *app) progress(what string) (tell func(done float64), end func()) {
	if !a.terminal() {
		return nil, func() {}
	}
	begun := time.Now()
	var bar *progressbar.ProgressBar
	return func(done float64) {
			if bar == nil && time.Since(begun) > slow {
				bar = progressbar.NewOptions(100, progressbar.OptionSetWriter(a.err), progressbar.OptionSetDescription(what), progressbar.OptionClearOnFinish())
			}
			if bar != nil {
				_ = bar.Set(int(100 * done)) // it is decoration
			}
		}, func() {
			if bar != nil {
				_ = bar.Finish()
			}
		}
}

// pipe copies standard input to a file, once.
func (a *app) pipe() (string, error) {
	if a.piped != "" {
		return a.piped, nil
	}
	f, err := os.CreateTemp("", "wraith-input-*")
	if err != nil {
		return "", fmt.Errorf("make a file for standard input: %w", err)
	}
	a.piped = f.Name()
	n, err := io.Copy(f, a.in)
	if err := errors.Join(err, f.Close()); err != nil {
		return "", fmt.Errorf("read standard input: %w", err)
	}
	if n == 0 {
		return "", fmt.Errorf("%w: nothing came from standard input", evidence.ErrUnreadable)
	}
	return a.piped, nil
}

// removePiped removes the copy of standard input.
func (a *app) removePiped() {
	if a.piped != "" {
		_ = os.Remove(a.piped) // it lies in the folder for temporary files
	}
}
