// Package markdown renders what people wrote as HTML that is safe to show.
package markdown

import (
	"bytes"
	"html"
	"regexp"

	"github.com/microcosm-cc/bluemonday"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/util"
)

var (
	// HTML in the text is text, and the policy removes what scripts could hide in.
	renderer = goldmark.New(goldmark.WithParser(newParser()), goldmark.WithExtensions(extension.Strikethrough, extension.Table, extension.Linkify))
	policy   = newPolicy()
	// A document has headings that links lead to.
	documents      = goldmark.New(goldmark.WithParser(newParser()), goldmark.WithExtensions(extension.Strikethrough, extension.Table), goldmark.WithParserOptions(parser.WithAutoHeadingID()))
	documentPolicy = newPolicy().AllowAttrs("id").Matching(headingID).OnElements("h1", "h2", "h3")
	headingID      = regexp.MustCompile(`^[a-z0-9-]+$`)
)

// newParser returns a parser of CommonMark without the two parts that read raw HTML (section 4.6 and 6.6).
func newParser() parser.Parser {
	return parser.NewParser(parser.WithBlockParsers(
		util.Prioritized(parser.NewSetextHeadingParser(), 100), util.Prioritized(parser.NewThematicBreakParser(), 200), util.Prioritized(parser.NewListParser(), 300),
		util.Prioritized(parser.NewListItemParser(), 400), util.Prioritized(parser.NewCodeBlockParser(), 500), util.Prioritized(parser.NewATXHeadingParser(), 600),
		util.Prioritized(parser.NewFencedCodeBlockParser(), 700), util.Prioritized(parser.NewBlockquoteParser(), 800), util.Prioritized(parser.NewParagraphParser(), 1000),
	), parser.WithInlineParsers(
		util.Prioritized(parser.NewCodeSpanParser(), 100), util.Prioritized(parser.NewLinkParser(), 200), util.Prioritized(parser.NewAutoLinkParser(), 300), util.Prioritized(parser.NewEmphasisParser(), 500),
	), parser.WithParagraphTransformers(parser.DefaultParagraphTransformers()...))
}

func newPolicy() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements("p", "br", "hr", "em", "strong", "del", "code", "pre", "blockquote", "ul", "ol", "li", "h1", "h2", "h3", "h4", "h5", "h6", "table", "thead", "tbody", "tr", "th", "td")
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("http", "https", "mailto")
	p.AllowRelativeURLs(true)
	p.RequireNoFollowOnLinks(true)
	p.RequireNoReferrerOnLinks(true)
	return p
}

// HTML renders Markdown (CommonMark 0.31.2, with tables, struck-out text and bare links). HTML in it is shown as text. Images, and
// links to anything but http, https, mailto and the service itself, are left out.
func HTML(text string) string { return convert(renderer, policy, text) }

// Document renders a longer text, of which the headings have IDs.
func Document(text string) string { return convert(documents, documentPolicy, text) }

// Text escapes text for HTML.
func Text(text string) string { return html.EscapeString(text) }

func convert(by goldmark.Markdown, policy *bluemonday.Policy, text string) string {
	var b bytes.Buffer
	if err := by.Convert([]byte(text), &b); err != nil {
		return "<p>" + html.EscapeString(text) + "</p>" // a writer to memory does not fail
	}
	return string(policy.SanitizeBytes(b.Bytes()))
}
