// Package executionlog opens .wraith execution logs as evidence.
package executionlog

import (
	"bytes"
	"context"

	"wraithology/core/evidence"
	"wraithology/core/execlog"
	"wraithology/core/intake"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// Kind registers execution logs. An empty file is an execution log too: a recorder that is killed
// early leaves one.
var Kind = evidence.Kind{
	Name: "execution-log", Ending: ".wraith",
	Traits: replay.Traits{History: true, Lines: true, Messages: true, Clock: true},
	Recognise: func(s evidence.Sample) evidence.Confidence {
		if len(s.Bytes) == 0 || bytes.HasPrefix(s.Bytes, []byte(execlog.Magic)) {
			return evidence.Certain
		}
		return evidence.No
	},
	Build: func(ctx context.Context, in intake.Input, _ evidence.Options) error {
		log, err := execlog.Open(in.File, in.Size)
		if err != nil {
			return err
		}
		source := Source(log)
		source.Mask = in.Mask
		return timeline.Build(ctx, source, in.Folder, in.Lasting, in.Progress)
	},
}

// Source returns what a log's timeline is built from.
func Source(l *execlog.Log) timeline.Source {
	return timeline.Source{Tables: l.Tables, Blocks: l.Blocks, Losses: l.Losses, Payload: l.Payload, File: l.Reader(), Size: l.Size()}
}
