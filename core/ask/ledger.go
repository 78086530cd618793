package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
)

var _ = declare[LedgerRequest, Ledger]("ledger", "A table: rows are moments, columns are expressions")

// LedgerRequest asks for a table. Its rows are the lines of the frame's call (Call), the hits of a
// checkpoint (Hits), or the writes of a path (Writes).
type LedgerRequest struct {
	Place
	Call    bool         `json:"call,omitempty" doc:"a row for each line of the frame's call"`
	Hits    CheckpointOn `json:"hits,omitzero" flag:"-"`
	Writes  string       `json:"writes,omitempty" maxLength:"2000" doc:"a row for each write of the value at this path"`
	Columns []string     `json:"columns" maxItems:"64" maxLength:"2000" flag:"column" doc:"expression of a column; may be repeated"`
	From    int          `json:"from,omitempty" minimum:"0" doc:"number of rows to skip"`
	Count   int          `json:"count,omitempty" minimum:"0" maximum:"100000" default:"200" flag:"first" doc:"number of rows"`
}

// Ledger is a table: rows are moments, columns are expressions.
type Ledger struct {
	Total   int         `json:"total"`
	Columns []string    `json:"columns"`
	Rows    []LedgerRow `json:"rows"`
}

// LedgerRow is one moment.
type LedgerRow struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Source   string         `json:"source,omitempty"` // the line of the source text
	Cells    []LedgerCell   `json:"cells"`
}

// LedgerCell is the value of a column's expression. Changed says whether it differs from the row
// before. Error is the reason if there is no value.
type LedgerCell struct {
	Value   string            `json:"value"`
	Changed bool              `json:"changed"`
	Error   string            `json:"error"`
	Why     string            `json:"why,omitempty"`  // why the value, which then ends in ?, may have changed
	From    []question.Latest `json:"from,omitempty"` // the records that latest(name) took its values from
}

// Negative implements Negative: there is no row.
func (l Ledger) Negative() bool { return l.Total == 0 }

func (q LedgerRequest) answer(ctx context.Context, s *Subject) (Ledger, error) {
	out := Ledger{Columns: append([]string{}, q.Columns...), Rows: []LedgerRow{}}
	columns, err := parseAll(q.Columns)
	if err != nil {
		return out, err
	}
	rows := 0
	for _, named := range []bool{q.Call, q.Hits.On != "", q.Writes != ""} {
		if named {
			rows++
		}
	}
	if rows != 1 || len(columns) == 0 {
		return out, fault.InvalidRequest.New("for example --call --column water", "a ledger needs exactly one of call, hits and writes, and at least one column")
	}
	p, err := q.resolve(s)
	if err != nil {
		return out, err
	}
	// One more row at the beginning shows what changed in the first one.
	page := replay.Page{From: max(q.From-1, 0), Count: q.Count + min(q.From, 1)}
	moments, total, err := q.rows(ctx, s, p, page)
	if err != nil {
		return out, err
	}
	out.Total = total
	var before []LedgerCell
	for i, m := range moments {
		h, err := hitAt(ctx, s.Recording, m)
		if err != nil {
			return out, err
		}
		row := LedgerRow{Moment: m, Thread: h.Thread, Function: h.Function, File: h.File, Line: h.Line, Source: s.sourceLine(h.File, h.Line)}
		for j, c := range columns {
			cell := LedgerCell{}
			if got, err := c.Ask(ctx, s.Recording, m, h.Thread, 0); err != nil {
				if ctx.Err() != nil {
					return out, ctx.Err()
				}
				cell.Error = err.Error()
			} else {
				cell.Value, cell.Why, cell.From = got.Text(), got.Why, got.From
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

// rows returns a page of the moments of the ledger's rows.
func (q LedgerRequest) rows(ctx context.Context, s *Subject, p Place, page replay.Page) ([]event.Moment, int, error) {
	r, err := finder(s, "row to list")
	if err != nil {
		return nil, 0, err
	}
	switch {
	case q.Call:
		hits, err := r.CallLines(ctx, p.Moment, p.Thread, p.Frame, page)
		return hits.Page, hits.Total, err
	case q.Writes != "":
		h, err := history(s, "write to list")
		if err != nil {
			return nil, 0, err
		}
		list, err := h.Writes(ctx, q.Writes, p.Moment, p.Thread, p.Frame, page)
		var moments []event.Moment
		for _, w := range list.Page {
			moments = append(moments, w.Moment)
		}
		return moments, list.Total, err
	}
	c, err := q.Hits.Checkpoint(s.Recording, p)
	if err != nil {
		return nil, 0, err
	}
	hits, err := r.Hits(ctx, c, page)
	return hits.Page, hits.Total, err
}
