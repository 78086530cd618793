// Package report writes what a case has found, for people who were not there: as Markdown, as one HTML file, and as PDF.
package report

import (
	"encoding/json"
	"fmt"
	"strings"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/service/markdown"
)

// mostOfAnswer limits the text of an exhibit whose question has no form of its own here, in bytes.
const mostOfAnswer = 8 << 10

// writers write the answers of questions as Markdown; all others are outlined.
var writers = map[string]func(b *strings.Builder, request, answer []byte) error{
	"ask":    writeExpression,
	"values": writeValues,
	"stack":  writeStack,
	"origin": writeOrigin,
	"ledger": writeLedger,
	"hits":   writeHits,
}

// Exhibit writes the answer to a question as Markdown.
func Exhibit(question, request, answer string) string {
	var b strings.Builder
	var none api.Withheld
	if json.Unmarshal([]byte(answer), &none) == nil && none.Withheld != "" {
		code(&b, none.Withheld)
		return b.String()
	}
	if write, ok := writers[question]; ok {
		if err := write(&b, []byte(request), []byte(answer)); err == nil {
			return b.String()
		}
		b.Reset() // an exhibit of another version is shown as it is kept
	}
	text := outline(answer, 2*mostOfAnswer)
	if len(text) > mostOfAnswer {
		text = strings.ToValidUTF8(text[:mostOfAnswer], "") + fmt.Sprintf("\n… and more: the whole answer has %d bytes of JSON", len(answer))
	}
	code(&b, text)
	return b.String()
}

// Code returns a text as a block of code.
func Code(text string) string {
	var b strings.Builder
	code(&b, text)
	return b.String()
}

// code writes a block of code, with a fence that the text does not contain.
func code(b *strings.Builder, text string) {
	text = markdown.Visible(text)
	fence := "```"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	fmt.Fprintf(b, "%s\n%s\n%s\n", fence, strings.TrimSuffix(text, "\n"), fence)
}

func writeExpression(b *strings.Builder, request, answer []byte) error {
	var q ask.ExpressionRequest
	var x ask.Expression
	if err := both(request, &q, answer, &x); err != nil {
		return err
	}
	text := fmt.Sprintf("%s = %s", q.Expression, x.Value)
	if x.Type != "" {
		text += "  (" + x.Type + ")"
	}
	if x.Why != "" {
		text += "\n" + x.Why
	}
	code(b, text)
	return nil
}

func both(request []byte, q any, answer []byte, a any) error {
	if err := json.Unmarshal(request, q); err != nil {
		return fmt.Errorf("read the request: %w", err)
	}
	if err := json.Unmarshal(answer, a); err != nil {
		return fmt.Errorf("read the answer: %w", err)
	}
	return nil
}

func writeValues(b *strings.Builder, request, answer []byte) error {
	var q ask.ValuesRequest
	var x ask.Values
	if err := both(request, &q, answer, &x); err != nil {
		return err
	}
	var text strings.Builder
	for _, v := range x.Variables {
		writeVariable(&text, v, "")
	}
	if len(x.Variables) == 0 {
		text.WriteString("no names are in scope")
	}
	code(b, text.String())
	return nil
}

func writeVariable(b *strings.Builder, v ask.Variable, indent string) {
	value := v.Value
	if v.Why != "" {
		value += " (" + v.Why + ")"
	}
	fmt.Fprintf(b, "%s%s  %s = %s\n", indent, v.Name, v.Type, value)
	for _, c := range v.Children {
		writeVariable(b, c, indent+"  ")
	}
}

func writeStack(b *strings.Builder, request, answer []byte) error {
	var q ask.StackRequest
	var x ask.Stack
	if err := both(request, &q, answer, &x); err != nil {
		return err
	}
	b.WriteString(Stack(x))
	return nil
}

// Stack writes a stack as Markdown.
func Stack(x ask.Stack) string {
	var text strings.Builder
	for _, t := range x.Threads {
		if len(x.Threads) > 1 {
			fmt.Fprintf(&text, "thread %s: %s\n", t.ID, t.Name)
		}
		for _, f := range t.Frames {
			fmt.Fprintf(&text, "%3d  %s", f.Index, f.Function)
			if f.File != "" {
				fmt.Fprintf(&text, "  %s:%d", f.File, f.Line)
			}
			text.WriteByte('\n')
		}
	}
	return Code(text.String())
}

func writeOrigin(b *strings.Builder, request, answer []byte) error {
	var q ask.OriginRequest
	var x ask.Origin
	if err := both(request, &q, answer, &x); err != nil {
		return err
	}
	writeLink(b, x, "")
	return nil
}

// writeLink writes a link of an origin chain, and those that it came from.
func writeLink(b *strings.Builder, x ask.Origin, indent string) {
	fmt.Fprintf(b, "%s- %s", indent, markdown.Inline(x.Name))
	if x.Value != "" {
		fmt.Fprintf(b, " was %s", markdown.Inline(x.Value))
	}
	if x.File != "" {
		fmt.Fprintf(b, ", %s in %s at %s:%d, moment %d", markdown.Escape(x.Kind), markdown.Inline(x.Function), markdown.Escape(x.File), x.Line, x.Moment)
	}
	if x.Note != "" {
		fmt.Fprintf(b, " (%s)", markdown.Escape(x.Note))
	}
	b.WriteByte('\n')
	for _, from := range x.From {
		writeLink(b, from, indent+"  ")
	}
}

func writeLedger(b *strings.Builder, request, answer []byte) error {
	var q ask.LedgerRequest
	var x ask.Ledger
	if err := both(request, &q, answer, &x); err != nil {
		return err
	}
	b.WriteString("| moment | where |")
	for _, c := range x.Columns {
		fmt.Fprintf(b, " %s |", markdown.Escape(c))
	}
	fmt.Fprintf(b, "\n|---|---|%s\n", strings.Repeat("---|", len(x.Columns)))
	for _, r := range x.Rows {
		fmt.Fprintf(b, "| %d | %s:%d |", r.Moment, markdown.Escape(r.File), r.Line)
		for _, c := range r.Cells {
			value := c.Value
			if c.Error != "" {
				value = "(" + c.Error + ")"
			}
			fmt.Fprintf(b, " %s |", markdown.Escape(value))
		}
		b.WriteByte('\n')
	}
	if left := x.Total - len(x.Rows); left > 0 {
		fmt.Fprintf(b, "\n%d more rows are not shown\n", left)
	}
	return nil
}

func writeHits(b *strings.Builder, request, answer []byte) error {
	var q ask.HitsRequest
	var x ask.Hits
	if err := both(request, &q, answer, &x); err != nil {
		return err
	}
	fmt.Fprintf(b, "%d hits of %s\n\n", x.Total, markdown.Inline(q.CheckpointOn.String()))
	var text strings.Builder
	for _, h := range x.Hits {
		fmt.Fprintf(&text, "@%d#%s  %s  %s:%d  %s\n", h.Moment, h.Thread, h.Function, h.File, h.Line, h.Text)
	}
	if text.Len() > 0 {
		code(b, text.String())
	}
	return nil
}
