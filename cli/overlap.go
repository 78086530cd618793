package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"

	"wraithology/core/ask"
	"wraithology/core/event"
)

var _ = register(question[ask.OverlapRequest, ask.OverlapAnswer]{use: "overlap EVIDENCE --enter FUNCTION --by EXPRESSION", short: "List calls of a function on different threads that overlapped in time with the same key",
	long: `List calls of a function on different threads that overlapped in time and for which the expression
has the same value, with what each of them read and wrote of what they share, and the locks that it held.`,
	print: printOverlaps})

func printOverlaps(w io.Writer, o printing, q ask.OverlapRequest, a ask.OverlapAnswer) {
	fmt.Fprintf(w, "%s of calls of %s\n", counted(a.Total, "overlap"), plain(q.Enter))
	if a.Undecided > 0 {
		fmt.Fprintf(w, "  %s had no key; the first: %s\n", counted(a.Undecided, "call"), plain(a.Trouble))
	}
	if a.Unexamined > 0 {
		fmt.Fprintf(w, "  %s not examined: there are too many\n", counted(a.Unexamined, "call"))
	}
	for i, x := range a.Overlaps {
		key := ""
		if q.By != "" {
			key = fmt.Sprintf("%s = %s, ", plain(q.By), plain(x.Key))
		}
		fmt.Fprintf(w, "  %3d  %s%s\n", q.From+i+1, key, counted(len(x.Calls)+x.Left, "call"))
		if x.Left > 0 {
			fmt.Fprintf(w, "       the first %d of them:\n", len(x.Calls))
		}
		type row struct {
			at   event.Moment
			text string
		}
		var rows []row
		for _, c := range x.Calls {
			end := "it did not end"
			if c.End >= 0 {
				end = fmt.Sprintf("until @%d", c.End)
			}
			rows = append(rows, row{c.Moment, fmt.Sprintf("began %s, %s", plain(c.Function), end)})
			for _, r := range c.Reads {
				rows = append(rows, row{r.Moment, fmt.Sprintf("read %s = %s%s", plain(r.Name), plain(shorten(r.Value, mostSourceText)), inFile(r.File, r.Line))})
			}
			for _, r := range c.Writes {
				rows = append(rows, row{r.Moment, fmt.Sprintf("wrote %s = %s%s", plain(r.Name), plain(shorten(r.Value, mostSourceText)), inFile(r.File, r.Line))})
			}
			if c.Left > 0 {
				rows = append(rows, row{c.Moment, fmt.Sprintf("has %s more that are not listed", counted(c.Left, "access"))})
			}
			for _, l := range c.Locks {
				until := "the end"
				if l.Until >= 0 {
					until = fmt.Sprintf("@%d", l.Until)
				}
				rows = append(rows, row{l.Since, fmt.Sprintf("held %s until %s", cmp.Or(plain(l.Name), l.Address.String()), until)})
			}
			for j := range rows {
				if rows[j].text != "" && rows[j].text[0] != '#' {
					rows[j].text = fmt.Sprintf("#%s  %s", c.Thread, rows[j].text)
				}
			}
		}
		slices.SortStableFunc(rows, func(a, b row) int { return cmp.Compare(a.at, b.at) })
		for _, r := range rows {
			fmt.Fprintf(w, "       %s@%d%s\n", o.name, r.at, r.text)
		}
	}
	printMore(w, a.Total, q.From, len(a.Overlaps))
}
