package answer

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Ledger is a table: rows are moments, columns are expressions.
type Ledger struct {
	Total   int         `json:"total"`
	Columns []string    `json:"columns"`
	Rows    []LedgerRow `json:"rows"`
}

// LedgerRow is one moment.
type LedgerRow struct {
	Moment   int64        `json:"moment"`
	Thread   string       `json:"thread"`
	Function string       `json:"function"`
	File     string       `json:"file"`
	Line     int          `json:"line"`
	Cells    []LedgerCell `json:"cells"`
}

// LedgerCell is the value of a column's expression, and whether it differs from
// the row before. Error says why there is none.
type LedgerCell struct {
	Value   string `json:"value"`
	Changed bool   `json:"changed"`
	Error   string `json:"error"`
}

// LedgerQuery says which rows and columns a ledger has. Rows are the lines of the
// call of a frame (Call), the hits of a checkpoint (Hits), or the writes of what a
// path leads to (Writes).
type LedgerQuery struct {
	Call    bool            `json:"call,omitempty"`
	Hits    CheckpointQuery `json:"hits"`
	Writes  string          `json:"writes,omitempty"`
	Columns []string        `json:"columns"`
	From    int             `json:"from,omitempty"`
	Count   int             `json:"count,omitempty"`
}

// ErrLedger says that a ledger has no rows or no columns.
var ErrLedger = errors.New("a ledger needs rows and columns")

// LedgerAt fills a ledger. The place is the frame whose call is meant, and from
// which paths are reached.
func LedgerAt(ctx context.Context, r replay.Replay, q LedgerQuery, at event.Moment, t event.ThreadID, frame int) (Ledger, error) {
	out := Ledger{Columns: append([]string{}, q.Columns...), Rows: []LedgerRow{}}
	columns, err := parseAll(q.Columns)
	if err != nil {
		return out, err
	}
	if len(columns) == 0 {
		return out, fmt.Errorf("%w: no column was given", ErrLedger)
	}
	// One row more at the beginning tells what has changed in the first one.
	page := replay.Page{From: max(q.From-1, 0), Count: q.Count + min(q.From, 1)}
	moments, total, err := ledgerRows(ctx, r, q, at, t, frame, page)
	if err != nil {
		return out, err
	}
	out.Total = total
	var before []LedgerCell
	for i, m := range moments {
		h, err := hitAt(r, m)
		if err != nil {
			return out, err
		}
		thread := event.ThreadID(mustThread(h.Thread))
		row := LedgerRow{Moment: h.Moment, Thread: h.Thread, Function: h.Function, File: h.File, Line: h.Line}
		for j, c := range columns {
			cell := LedgerCell{}
			if got, err := c.Ask(ctx, r, m, thread, 0); err != nil {
				if ctx.Err() != nil {
					return out, ctx.Err()
				}
				cell.Error = err.Error()
			} else {
				cell.Value = got.Value
			}
			cell.Changed = before != nil && (cell.Value != before[j].Value || (cell.Error == "") != (before[j].Error == ""))
			row.Cells = append(row.Cells, cell)
		}
		before = row.Cells
		if i > 0 || q.From == 0 {
			out.Rows = append(out.Rows, row)
		}
	}
	return out, nil
}

func ledgerRows(ctx context.Context, r replay.Replay, q LedgerQuery, at event.Moment, t event.ThreadID, frame int, page replay.Page) ([]event.Moment, int, error) {
	switch {
	case q.Call:
		hits, err := r.CallLines(ctx, at, t, frame, page)
		return hits.Page, hits.Total, err
	case q.Writes != "":
		list, err := r.Writes(ctx, q.Writes, at, t, frame, page)
		var moments []event.Moment
		for _, w := range list.Page {
			moments = append(moments, w.Moment)
		}
		return moments, list.Total, err
	}
	c, err := q.Hits.Checkpoint(r, at, t, frame)
	if err != nil {
		return nil, 0, fmt.Errorf("%w: %w", ErrLedger, err)
	}
	hits, err := r.Hits(ctx, c, page)
	return hits.Page, hits.Total, err
}

func (c LedgerCell) text() string {
	if c.Error != "" {
		return "?"
	}
	return c.Value
}

// WriteCSV writes a ledger as comma-separated values (RFC 4180).
func (l Ledger) WriteCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	_ = out.Write(append([]string{"moment", "thread", "function", "file", "line"}, l.Columns...)) // Flush returns the error
	for _, row := range l.Rows {
		record := []string{strconv.FormatInt(row.Moment, 10), row.Thread, row.Function, row.File, strconv.Itoa(row.Line)}
		for _, c := range row.Cells {
			record = append(record, c.text())
		}
		_ = out.Write(record)
	}
	out.Flush()
	return out.Error()
}

// WriteMarkdown writes a ledger as a Markdown table; changed cells are bold.
func (l Ledger) WriteMarkdown(w io.Writer) error {
	cell := func(s string) string {
		return strings.NewReplacer("|", `\|`, "\n", " ", "*", `\*`, "_", `\_`).Replace(plainText(s))
	}
	var b strings.Builder
	b.WriteString("| moment | place |")
	for _, c := range l.Columns {
		b.WriteString(" " + cell(c) + " |")
	}
	b.WriteString("\n|---|---|" + strings.Repeat("---|", len(l.Columns)) + "\n")
	for _, row := range l.Rows {
		fmt.Fprintf(&b, "| %d | %s:%d |", row.Moment, cell(row.File), row.Line)
		for _, c := range row.Cells {
			if c.Changed {
				b.WriteString(" **" + cell(c.text()) + "** |")
			} else {
				b.WriteString(" " + cell(c.text()) + " |")
			}
		}
		b.WriteString("\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}
