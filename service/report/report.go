package report

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"wraithology/api"
	"wraithology/service/markdown"
)

// Case is what a report is made from.
type Case struct {
	api.Case
	Evidence []api.EvidenceInfo
	// Failures are the stacks of failures, as exhibits write them, by the name of the evidence.
	Failures map[string]string
	Exhibits []api.Exhibit
	Theories []api.Theory
	Comments []api.Comment
	// Most is the maximum length of each of these lists, where more were left out; 0 for no limit.
	Most int
	// Address is that of the service, for links; empty for none.
	Address string
}

var stateWords = map[string]string{api.TheoryOpen: "open", api.TheorySupported: "supported", api.TheoryRefuted: "refuted"}

// Markdown writes the report of a case.
func Markdown(c Case, at time.Time) string {
	var b strings.Builder
	title := c.Title
	if title == "" {
		title = c.Name
	}
	fmt.Fprintf(&b, "# %s\n\n", markdown.Escape(title))
	fmt.Fprintf(&b, "Case %s, opened %s", markdown.Inline(c.Name), day(c.Created))
	switch {
	case c.Closed != nil:
		fmt.Fprintf(&b, ", closed %s by %s.\n\n**Cause:** %s\n\n", day(*c.Closed), markdown.Escape(c.ClosedBy), markdown.Escape(c.Cause))
	default:
		b.WriteString(", still open.\n\n")
	}
	writeLimits(&b, c)
	writeSummary(&b, c)
	writeEvidence(&b, c)
	writeTheories(&b, c)
	writeExhibits(&b, c)
	writeComments(&b, c)
	b.WriteString("## People\n\n")
	for _, m := range c.Members {
		fmt.Fprintf(&b, "- %s (%s)\n", markdown.Escape(m.Name), m.Role)
	}
	fmt.Fprintf(&b, "\nWritten %s.\n", at.UTC().Format("2006-01-02 15:04 MST"))
	return b.String()
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// writeLimits says what the report may not have.
func writeLimits(b *strings.Builder, c Case) {
	for _, list := range []struct {
		what string
		n    int
	}{{"newest pieces of evidence", len(c.Evidence)}, {"first exhibits", len(c.Exhibits)}, {"newest comments", len(c.Comments)}} {
		if c.Most > 0 && list.n >= c.Most {
			fmt.Fprintf(b, "This report has the %d %s. The case may have more.\n\n", c.Most, list.what)
		}
	}
}

// writeSummary says what failed, and what is known of the cause, in a few lines.
func writeSummary(b *strings.Builder, c Case) {
	b.WriteString("## Summary\n\n")
	said := false
	for _, e := range c.Evidence {
		if e.Fingerprint != "" {
			fmt.Fprintf(b, "- %s: %s\n", markdown.Inline(e.Program), markdown.Escape(e.Outcome))
			said = true
		}
	}
	for _, t := range c.Theories {
		if t.State == api.TheorySupported {
			fmt.Fprintf(b, "- Supported by what was found: %s\n", markdown.Escape(t.Text))
			said = true
		}
	}
	if !said {
		b.WriteString("No failure is in the evidence, and no theory is supported yet.\n")
	}
	b.WriteByte('\n')
}

func writeEvidence(b *strings.Builder, c Case) {
	b.WriteString("## Evidence\n\n| name | kind | program | ran | outcome | SHA-256 begins |\n|---|---|---|---|---|---|\n")
	for _, e := range c.Evidence {
		ran := ""
		if e.Started.Year() > 1970 {
			ran = day(e.Started)
			if e.Host != "" {
				ran += " on " + markdown.Escape(e.Host)
			}
		}
		fmt.Fprintf(b, "| %s | %s | %s | %s | %s | %s |\n", link(c, markdown.Escape(e.Name), e.Name, nil), markdown.Escape(e.Kind), markdown.Escape(e.Program), ran, markdown.Escape(e.Outcome), markdown.Inline(e.SHA256[:min(len(e.SHA256), 16)]))
	}
	b.WriteByte('\n')
	for _, e := range c.Evidence {
		if stack := c.Failures[e.Name]; stack != "" {
			fmt.Fprintf(b, "### The failure of %s\n\n%s\n\n%s\n", markdown.Escape(e.Name), markdown.Escape(e.Outcome), stack)
		}
	}
}

// link links a text to evidence, or to a place in it.
func link(c Case, text, evidence string, p *api.Place) string {
	if c.Address == "" {
		return text
	}
	to := fmt.Sprintf("%s/cases/%s/%s", c.Address, c.Name, evidence)
	if p != nil {
		to += fmt.Sprintf("?moment=%d&thread=%s&frame=%d", p.Moment, p.Thread, p.Frame)
	}
	return fmt.Sprintf("[%s](<%s>)", text, to)
}

func writeTheories(b *strings.Builder, c Case) {
	if len(c.Theories) == 0 {
		return
	}
	b.WriteString("## Theories\n\n")
	for _, t := range c.Theories {
		fmt.Fprintf(b, "- **%s**: %s%s", stateWords[t.State], markdown.Escape(t.Text), exhibitList("; for it: ", t.For)+exhibitList("; against it: ", t.Against))
		if t.Note != "" {
			fmt.Fprintf(b, "  \n  %s", markdown.Escape(t.Note))
		}
		b.WriteByte('\n')
	}
	b.WriteByte('\n')
}

func exhibitList(before string, ids []int64) string {
	if len(ids) == 0 {
		return ""
	}
	var names []string
	for _, id := range ids {
		names = append(names, fmt.Sprintf("[exhibit %d](#exhibit-%d)", id, id))
	}
	return before + strings.Join(names, ", ")
}

func writeExhibits(b *strings.Builder, c Case) {
	if len(c.Exhibits) == 0 {
		return
	}
	b.WriteString("## Exhibits\n\n")
	for _, x := range c.Exhibits {
		fmt.Fprintf(b, "### Exhibit %d\n\n", x.ID)
		if x.Note != "" {
			fmt.Fprintf(b, "%s\n\n", markdown.Escape(x.Note))
		}
		fmt.Fprintf(b, "%s at %s, kept by %s, %s\n\n%s\n", markdown.Escape(x.Question), link(c, markdown.Escape(fmt.Sprintf("%s@%d#%s.%d", x.Evidence, x.Place.Moment, x.Place.Thread, x.Place.Frame)), x.Evidence, &x.Place),
			markdown.Escape(x.By), day(x.Created), Exhibit(x.Question, string(x.Request), string(x.Answer)))
	}
}

func writeComments(b *strings.Builder, c Case) {
	if len(c.Comments) == 0 {
		return
	}
	b.WriteString("## Comments\n\n")
	for _, x := range c.Comments {
		if x.Deleted != nil {
			continue
		}
		fmt.Fprintf(b, "**%s**, %s%s\n\n", markdown.Escape(x.By), day(x.Created), about(c, x.Anchor))
		for _, line := range strings.Split(strings.TrimSpace(x.Text), "\n") {
			fmt.Fprintf(b, "> %s\n", tag.ReplaceAllString(line, "&lt;$1"))
		}
		b.WriteByte('\n')
	}
}

// tag is the beginning of raw HTML, which other readers of the Markdown may not leave out.
var tag = regexp.MustCompile(`<([A-Za-z/!?])`)

// about says what a comment is about.
func about(c Case, a api.Anchor) string {
	text := ""
	switch {
	case a.Exhibit != 0:
		return fmt.Sprintf(", on [exhibit %d](#exhibit-%d)", a.Exhibit, a.Exhibit)
	case a.Evidence == "":
		return ""
	case a.Moment == nil:
		return ", on " + link(c, markdown.Escape(a.Evidence), a.Evidence, nil)
	}
	text = fmt.Sprintf("%s@%d", a.Evidence, *a.Moment)
	if a.Until != nil {
		text += fmt.Sprintf(" to %d", *a.Until)
	}
	text = ", on " + link(c, markdown.Escape(text), a.Evidence, &api.Place{Moment: *a.Moment, Thread: a.Thread, Frame: a.Frame})
	if a.Path != "" {
		text += ", " + markdown.Inline(a.Path)
	}
	if a.File != "" {
		text += fmt.Sprintf(", %s:%d", markdown.Escape(a.File), a.Line)
	}
	return text
}

// HandOver writes a note for the next shift: what is known, what is suspected, what is ruled out, and what to do next.
func HandOver(c Case) string {
	var b strings.Builder
	section := func(title, none string, list []string) {
		fmt.Fprintf(&b, "## %s\n\n", title)
		for _, x := range list {
			fmt.Fprintf(&b, "- %s\n", x)
		}
		if len(list) == 0 {
			fmt.Fprintln(&b, none)
		}
		b.WriteByte('\n')
	}
	byState := map[string][]string{}
	var next []string
	for _, t := range c.Theories {
		byState[t.State] = append(byState[t.State], markdown.Escape(t.Text)+exhibitList("; for it: ", t.For)+exhibitList("; against it: ", t.Against))
		if t.State == api.TheoryOpen && len(t.For)+len(t.Against) == 0 {
			next = append(next, "find an exhibit for or against: "+markdown.Escape(t.Text))
		}
	}
	var known []string
	for _, e := range c.Evidence {
		if e.Fingerprint != "" {
			known = append(known, fmt.Sprintf("%s: %s", markdown.Inline(e.Name), markdown.Escape(e.Outcome)))
		}
		if e.Broken > 0 {
			text := "1 expectation breaks"
			if e.Broken > 1 {
				text = fmt.Sprintf("%d expectations break", e.Broken)
			}
			known = append(known, markdown.Inline(e.Name)+": "+text)
		}
		for _, k := range e.Known {
			known = append(known, fmt.Sprintf("%s: breaks an expectation of case %s; its cause: %s", markdown.Inline(e.Name), markdown.Inline(k.Case), markdown.Escape(k.Cause)))
		}
		if e.State == api.StateFailed {
			next = append(next, fmt.Sprintf("fetch %s again: %s", markdown.Inline(e.Name), markdown.Escape(e.Trouble)))
		}
	}
	answered := map[int64]bool{}
	for _, x := range c.Comments {
		answered[x.Parent] = true
	}
	for _, x := range c.Comments {
		if x.Deleted == nil && !answered[x.ID] && strings.Contains(x.Text, "?") {
			next = append(next, fmt.Sprintf("answer %s: %s", markdown.Escape(x.By), tag.ReplaceAllString(firstLine(x.Text), "&lt;$1")))
		}
	}
	section("Known", "Nothing is known for sure.", append(known, byState[api.TheorySupported]...))
	section("Suspected", "There is no open theory.", byState[api.TheoryOpen])
	section("Ruled out", "Nothing is ruled out yet.", byState[api.TheoryRefuted])
	section("Next", "Nothing is left open.", next)
	return b.String()
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	return line
}

// HTML writes a report as one file without references to others.
func HTML(c Case, at time.Time) string {
	text := markdown.Document(Markdown(c, at))
	title := c.Title
	if title == "" {
		title = c.Name
	}
	return "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">" +
		"<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'\"><title>" + markdown.Text(title) + "</title><style>" + style + "</style></head><body>\n" + text + "</body></html>\n"
}

const style = `body{max-width:62rem;margin:2.5rem auto;padding:0 1.5rem;font:16px/1.5 "Source Sans 3","Noto Sans",sans-serif;color:#1f2b33;background:#fbfdfd}
h1,h2,h3{line-height:1.2}h2{margin-top:2.2rem;padding-bottom:.2rem;border-bottom:2px solid #c9d3d6}
pre{padding:.7rem .9rem;overflow-x:auto;white-space:pre-wrap;overflow-wrap:anywhere;background:#eef3f4;border-left:4px solid #2f7f79}
code{font:13.5px/1.45 "JetBrains Mono","DejaVu Sans Mono",monospace}a{color:#22635e}
table{width:100%;border-collapse:collapse}th,td{padding:.35rem .6rem;text-align:left;vertical-align:top;border-bottom:1px solid #c9d3d6;overflow-wrap:break-word}td code{overflow-wrap:anywhere}
blockquote{margin:.4rem 0 1rem;padding:.1rem 1rem;border-left:4px solid #c9d3d6}
@media print{body{margin:0;max-width:none}h2,h3{break-after:avoid}pre,tr{break-inside:avoid}}`
