package structuredlog

import (
	"context"

	"wraithology/core/evidence"
	"wraithology/core/intake"
	"wraithology/core/replay"
)

// Kind registers structured logs.
var Kind = evidence.Kind{
	Name: kindName, Ending: ".log",
	Traits: replay.Traits{History: true, Messages: true, Clock: true},
	Recognise: func(s evidence.Sample) evidence.Confidence {
		if s.Text && (Is(s.Bytes) || HasTimes(s.Bytes)) {
			return evidence.Likely
		}
		return evidence.No
	},
	Build: func(ctx context.Context, in intake.Input, o evidence.Options) error {
		rules, err := ParseRules(o.Fields)
		if err != nil {
			return err
		}
		return Build(ctx, in, rules)
	},
}
