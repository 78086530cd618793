package cli

import (
	"fmt"
	"io"
	"strings"

	"wraithology/core/ask"
)

var _ = register(question[ask.ChangedRequest, ask.Changed]{use: "changed LOCATOR", short: "Show what differs from the frame's previous moment", print: printChanged})

func printChanged(w io.Writer, _ printing, _ ask.ChangedRequest, c ask.Changed) {
	if len(c.Changes) == 0 {
		fmt.Fprintf(w, "nothing in this frame differs from moment %d\n", c.Previous)
	} else {
		fmt.Fprintf(w, "since moment %d of this frame\n", c.Previous)
	}
	for _, x := range c.Changes {
		if x.Old == nil {
			fmt.Fprintf(w, "  %s = %s\n", plain(x.Name), plain(x.New))
			continue
		}
		fmt.Fprintf(w, "  %s: %s -> %s\n", plain(x.Name), plain(*x.Old), plain(x.New))
	}
	for _, x := range c.Returned {
		fmt.Fprintf(w, "  %s returned %s at moment %d\n", plain(x.Function), plain(strings.Join(x.Values, ", ")), x.Moment)
	}
}
