package cli

import (
	"fmt"
	"io"
	"strings"

	"wraithology/core/ask"
	"wraithology/core/event"
)

var _ = register(question[ask.WaitsRequest, ask.Waits]{use: "waits LOCATOR", short: "Show what each thread waits for, who holds it, and deadlocks",
	long: `Show what each thread waits for at a moment: a mutex, a read-write lock, a condition, a semaphore, a
barrier, a channel, a select, a wait group, another thread, a timer or input; and which threads hold it, where that is
certain. Threads that wait for each other in a circle are a deadlock.`,
	print: printWaits})

func printWaits(w io.Writer, o printing, q ask.WaitsRequest, list ask.Waits) {
	for _, c := range list.Cycles {
		printCycle(w, c)
	}
	verb := "wait"
	if list.Total == 1 {
		verb = "waits"
	}
	fmt.Fprintf(w, "%s %s\n", counted(list.Total, "thread"), verb)
	for _, x := range list.Waits {
		fmt.Fprintf(w, "  %s@%d#%s  for %s%s\n          in %s%s\n", o.name, x.Moment, x.Thread, plain(strings.TrimSpace(x.On+" "+x.Name)), holdersText(x), plain(x.Function), inFile(x.File, x.Line))
		if text := o.source(x.File, x.Line); text != "" {
			fmt.Fprintf(w, "          | %s\n", plain(text))
		}
	}
	printMore(w, list.Total, q.From, len(list.Waits))
}

// printCycle writes a deadlock: who waits for what of whom.
func printCycle(w io.Writer, c ask.WaitCycle) {
	fmt.Fprintf(w, "%s  ", plain(c.Kind))
	for i, t := range c.Threads {
		if i > 0 {
			fmt.Fprint(w, "\n          ")
		}
		on := "what"
		if i < len(c.On) {
			on = plain(c.On[i])
		}
		fmt.Fprintf(w, "thread %s waits for %s, which thread %s holds", t, on, c.Threads[(i+1)%len(c.Threads)])
	}
	fmt.Fprintln(w)
}

func holdersText(x ask.Wait) string {
	switch {
	case len(x.Holders) > 0:
		return ", held by thread " + threadList(x.Holders)
	case x.Note != "":
		return ", " + plain(x.Note)
	}
	return ""
}

func threadList(list []event.ThreadID) string {
	const most = 5
	var out []string
	for i, t := range list {
		if i == most {
			out = append(out, fmt.Sprintf("%d more", len(list)-most))
			break
		}
		out = append(out, t.String())
	}
	return strings.Join(out, ", ")
}
