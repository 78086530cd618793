package cli

import (
	"encoding/csv"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.LedgerRequest, ask.Ledger]{use: "ledger LOCATOR --call|--hits …|--writes PATH --column EXPRESSION …", short: "Show a table: a row for each moment, a column for each expression", args: [2]int{1, 2},
	flags: func(c *cobra.Command) func(*ask.LedgerRequest, *locator.Locator, []string) error {
		f := addCheckpointFlags(c)
		hits := c.Flags().Bool("hits", false, "a row for each hit of the checkpoint that the flags name")
		on := reflect.ValueOf(&ask.CheckpointOn{}).Elem()
		for _, x := range ask.Fields(on.Type()) {
			bind(c.Flags(), on, x)
		}
		c.Flags().Bool("csv", false, "print comma-separated values")
		c.Flags().Bool("markdown", false, "print a Markdown table")
		return func(q *ask.LedgerRequest, l *locator.Locator, rest []string) (err error) {
			rows := 0
			for _, x := range []bool{q.Call, *hits, q.Writes != ""} {
				if x {
					rows++
				}
			}
			if rows != 1 || len(q.Columns) == 0 {
				return usage("for example: wraith ledger "+l.Evidence+" --call --column water", "a ledger needs exactly one of --call, --hits and --writes, and at least one --column")
			}
			if *hits {
				q.Hits = on.Interface().(ask.CheckpointOn)
				q.Hits.On, err = f.on(rest)
			}
			return err
		}
	},
	write: func(c *cobra.Command, w io.Writer, l ask.Ledger) (bool, error) {
		for name, write := range map[string]func(io.Writer, ask.Ledger) error{"csv": writeCSV, "markdown": writeMarkdown} {
			if is, err := c.Flags().GetBool(name); err == nil && is {
				return true, write(w, l)
			}
		}
		return false, nil
	},
	print: printLedger})

func printLedger(w io.Writer, _ printing, _ ask.LedgerRequest, l ask.Ledger) {
	heads := []any{"moment", "place"}
	for _, c := range l.Columns {
		heads = append(heads, c)
	}
	withSource := slices.ContainsFunc(l.Rows, func(r ask.LedgerRow) bool { return r.Line != l.Rows[0].Line }) // else it is the same in each row
	if withSource {
		heads = append(heads, "source")
	}
	t := newTable(w, heads...)
	for _, row := range l.Rows {
		place := row.Function
		if row.File != "" {
			place = fmt.Sprintf("%s:%d", row.File, row.Line)
		}
		cells := table.Row{row.Moment, plain(place)}
		for _, c := range row.Cells {
			value := plain(c.Value)
			if c.Error != "" {
				value = "?"
			}
			if c.Changed {
				value += " *"
			}
			cells = append(cells, value)
		}
		if withSource {
			for len(cells) < len(heads)-1 {
				cells = append(cells, "")
			}
			cells = append(cells, plain(shorten(row.Source, mostSourceText)))
		}
		t.AppendRow(cells)
	}
	t.Render()
	fmt.Fprintf(w, "%d of %s; * differs from the row before, ? has no value there, a value with ? may have changed\n", len(l.Rows), counted(l.Total, "row"))
}

func cellText(c ask.LedgerCell) string {
	if c.Error != "" {
		return "?"
	}
	return c.Value
}

// writeCSV writes a ledger as comma-separated values (RFC 4180).
func writeCSV(w io.Writer, l ask.Ledger) error {
	out := csv.NewWriter(w)
	_ = out.Write(append([]string{"moment", "thread", "function", "file", "line"}, l.Columns...)) // Flush returns the error
	for _, row := range l.Rows {
		record := []string{strconv.FormatInt(int64(row.Moment), 10), row.Thread.String(), row.Function, row.File, strconv.Itoa(row.Line)}
		for _, c := range row.Cells {
			text := cellText(c)
			if unquoted, err := strconv.Unquote(text); err == nil { // CSV has quotes of its own
				text = unquoted
			}
			record = append(record, text)
		}
		_ = out.Write(record)
	}
	out.Flush()
	return out.Error()
}

// writeMarkdown writes a ledger as a Markdown table; changed cells are bold.
func writeMarkdown(w io.Writer, l ask.Ledger) error {
	cell := func(s string) string {
		return strings.NewReplacer("|", `\|`, "\n", " ", "*", `\*`, "_", `\_`).Replace(safe(s))
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
				b.WriteString(" **" + cell(cellText(c)) + "** |")
			} else {
				b.WriteString(" " + cell(cellText(c)) + " |")
			}
		}
		b.WriteString("\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}
