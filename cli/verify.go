package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.VerifyRequest, ask.Verified]{use: "verify EVIDENCE", short: "Compare a recording with the snapshots that record --verify took in the program", print: printVerified})

func printVerified(w io.Writer, p printing, q ask.VerifyRequest, v ask.Verified) {
	fmt.Fprintf(w, "%s compared, %d of them unknown to the recording, %s\n", counted(int(v.Compared+v.Unknown), "value"), v.Unknown, counted(v.Total, "difference"))
	for _, d := range v.Differences {
		fmt.Fprintf(w, "  %s  %s:%d  %s\n    %s: recorded %s, actually %s\n", locator.Locator{Evidence: p.name, Moment: d.Moment, Thread: d.Thread}, plain(d.File), d.Line, plain(d.Function), plain(d.Name), plain(d.Recorded), plain(d.Actual))
	}
	printMore(w, v.Total, q.From, len(v.Differences))
}
