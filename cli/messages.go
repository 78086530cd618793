package cli

import (
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.MessagesRequest, ask.Messages]{use: "messages LOCATOR [FILE …] [--of all|thread|trace]", short: "Show the messages around a moment", args: [2]int{1, 64},
	long: `Show the messages, outputs and errors around a moment: of all threads, of the locator's thread, or
of the trace that it is in. Those of a trace are gathered from all evidence of the case, or from the
files that are named.`,
	flags: offsetFlag[ask.MessagesRequest],
	other: func(c *cobra.Command, a *app, l locator.Locator, q ask.MessagesRequest, files []string) (bool, error) {
		if len(files) > 0 && q.Of != "trace" {
			return true, usage("add --of trace", "other files are read for the messages of a trace only")
		}
		return besideFiles(func(c *cobra.Command, a *app, t *target, q ask.MessagesRequest) error {
			return answerTo(c, a, question[ask.MessagesRequest, ask.Messages]{print: printMessages}, t, q)
		}, false)(c, a, l, q, files)
	},
	print: printMessages})

func printMessages(w io.Writer, _ printing, _ ask.MessagesRequest, list ask.Messages) {
	if list.TraceID != "" {
		fmt.Fprintf(w, "of trace %s\n", plain(list.TraceID))
	}
	if len(list.Messages) == 0 {
		fmt.Fprintln(w, "no messages around this moment")
		return
	}
	byClock := slices.ContainsFunc(list.Messages, func(x ask.Message) bool { return !x.At.IsZero() }) ||
		!slices.ContainsFunc(list.Messages, func(x ask.Message) bool { return !x.Estimated || x.TimeNs != 0 }) // none has a time
	when := "since the beginning"
	if byClock {
		when = "time"
	}
	t := newTable(w, "", when, "moment", "in", "message")
	for i, x := range list.Messages {
		mark := ""
		if i == list.Here {
			mark = ">"
		}
		at := fmt.Sprintf("@%d#%s", x.Moment, x.Thread)
		if x.Evidence != "" {
			at = plain(x.Evidence) + at
		}
		when := time.Duration(x.TimeNs).String()
		switch {
		case !x.At.IsZero():
			when = x.At.Format(dayTime)
		case byClock:
			when = "undated"
		}
		t.AppendRow([]any{mark, when, at, plain(x.Function), plain(x.Text)})
	}
	t.Render()
	if list.Here >= 0 {
		fmt.Fprintln(w, "> the last one that is not after the moment")
	}
}
