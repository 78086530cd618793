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
		sample := sampleAsUTF8(s.Bytes)
		if (s.Text || len(sample) != len(s.Bytes) || isJournal(sample)) && (Is(sample) || HasHeadings(sample)) {
			return evidence.Likely
		}
		return evidence.No
	},
	Described: func(rules map[string]string) bool { return rules["pattern"] != "" },
	Build: func(ctx context.Context, in intake.Input, o evidence.Options) error {
		rules, err := ParseRules(o.Fields)
		if err != nil {
			return err
		}
		return Build(ctx, in, rules)
	},
}
