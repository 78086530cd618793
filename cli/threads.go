package cli

import (
	"fmt"
	"io"
	"strings"

	"wraithology/core/ask"
)

var _ = register(question[ask.ThreadsRequest, ask.Groups]{use: "threads LOCATOR", short: "Show all threads, grouped by equal stacks", print: printGroups})

func printGroups(w io.Writer, _ printing, _ ask.ThreadsRequest, g ask.Groups) {
	fmt.Fprintf(w, "%s in %s\n", counted(g.Total, "thread"), counted(len(g.Groups), "group"))
	for _, x := range g.Groups {
		const most = 12
		var names []string
		for _, t := range x.Threads[:min(most, len(x.Threads))] {
			names = append(names, t.String())
		}
		ids := strings.Join(names, ", ")
		if x.Count > most {
			ids += ", …"
		}
		fmt.Fprintf(w, "\n%s, %s: %s\n", counted(x.Count, plain(x.Kind)), plain(x.State), ids)
		if x.Waits != "" {
			fmt.Fprintf(w, "  %s\n", plain(x.Waits))
		}
		printFolded(w, x.Frames, nil)
	}
}
