package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.StoryRequest, ask.Story]{use: "story EVIDENCE VALUE|LOCATOR PATH", short: "Show the life of an object or identifier: created, changed, passed, stored, removed", args: [2]int{2, 2},
	long: `Show what happened to an object or to an identifier, in order: where it was created, which functions it
was passed to and returned from, the containers and fields it was put into and taken out of, the channels it went
through, and how it changed. VALUE is a text or number, PATH leads to an object from the locator's frame. An object
whose memory was used before, or that came out of a pool, has several lives.`,
	print: printStory})

func printStory(w io.Writer, o printing, q ask.StoryRequest, s ask.Story) {
	lives := ""
	if s.Lives > 1 {
		lives = fmt.Sprintf(", in %d lives", s.Lives)
	}
	fmt.Fprintf(w, "%s of %s%s\n", counted(s.Total, "step"), plain(q.Of), lives)
	life := 1
	for i, x := range s.Steps {
		if x.Life != life {
			life = x.Life
			fmt.Fprintf(w, "  life %d\n", life)
		}
		value := ""
		switch {
		case x.What == "changed" && x.Old != nil && x.New != nil:
			value = fmt.Sprintf(": %s -> %s", shorten(*x.Old, mostSourceText), shorten(*x.New, mostSourceText))
		case x.What == "changed" && x.New != nil:
			value = ": " + shorten(*x.New, mostSourceText)
		case x.What == "changed":
			value = ": deleted"
		}
		times := ""
		if x.Times > 1 {
			times = fmt.Sprintf(", %d times", x.Times)
		}
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s %s%s%s%s\n", q.From+i+1, o.name, x.Moment, x.Thread, storyWords[x.What], plain(x.Name), plain(value), times, inFile(x.File, x.Line))
		if text := o.source(x.File, x.Line); text != "" {
			fmt.Fprintf(w, "          | %s\n", plain(text))
		}
	}
	if s.Unexamined > 0 {
		fmt.Fprintf(w, "  %s not followed: there are too many\n", counted(s.Unexamined, "place"))
	}
	printMore(w, s.Total, q.From, len(s.Steps))
}

// storyWords are what happened, before the name of what it happened to.
var storyWords = map[string]string{"created": "created as", "changed": "changed", "passed": "passed to", "stored": "stored in", "removed": "removed from", "sent": "sent on", "received": "received from", "returned": "returned by"}
