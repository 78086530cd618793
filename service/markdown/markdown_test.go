package markdown

import (
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
)

func TestHTML(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"the *second* notice":      "<p>the <em>second</em> notice</p>\n",
		"`p.Corrections`":          "<p><code>p.Corrections</code></p>\n",
		"- a\n- b":                 "<ul>\n<li>a</li>\n<li>b</li>\n</ul>\n",
		"[run](/cases/fog)":        `<p><a href="/cases/fog" rel="nofollow noreferrer">run</a></p>` + "\n",
		"<script>x</script> yes":   "<p>&lt;script&gt;x&lt;/script&gt; yes</p>\n",
		"a <b>c</b>\n\n<!-- d -->": "<p>a &lt;b&gt;c&lt;/b&gt;</p>\n<p>&lt;!-- d --&gt;</p>\n",
		"a\n```\nx < y\n```":       "<p>a</p>\n<pre><code>x &lt; y\n</code></pre>\n",
	} {
		assert.Equal(t, want, HTML(text))
	}
	for _, hostile := range []string{
		"<script>alert(1)</script>", "<img src=x onerror=alert(1)>", "[x](javascript:alert(1))", "[x](data:text/html;base64,PHNjcmlwdD4=)", "![x](https://elsewhere.example/spy.png)",
		"<a href=\"javascript:alert(1)\">x</a>", "<svg/onload=alert(1)>", "[x](vbscript:alert(1))", "<iframe src=//elsewhere.example>", "`<script>`", "[x](\"onmouseover=alert(1))",
		"<style>body{display:none}</style>", "[a](<javascript:alert(1)>)", "<div style=\"position:fixed\">", "\x00<b onclick=x>",
	} {
		got := strings.ToLower(HTML(hostile))
		for _, bad := range []string{"<script", "<img", "<svg", "<iframe", "<style", "<div", "href=\"javascript", "href=\"data", "href=\"vbscript"} {
			assert.NotContains(t, got, bad, hostile)
		}
	}
}

// Whatever is written, only the elements and attributes of the policy come out.
func FuzzHTML(f *testing.F) {
	f.Add("<b>*x*</b> [y](z)")
	f.Fuzz(func(t *testing.T, text string) {
		got := HTML(text)
		if again := policy.Sanitize(got); again != got {
			t.Errorf("%q: %q is sanitized again to %q", text, got, again)
		}
	})
}

// Escaped text means itself, and reads as it was.
func FuzzEscape(f *testing.F) {
	for _, text := range []string{"___", "# a", "1. x", "*b* _c_ `d` [e](f) <g> h~i~ | & snake_case", `back\slash \\ \* `, "```", "-", "+ x", "a\tb", "===", "\\`"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		one := oneLine(text)
		assert.Equal(t, -1, strings.IndexFunc(one, unicode.IsControl))
		escaped := Escape(text)
		assert.Equal(t, one, Plain(escaped), "%q", escaped)
		if one != "" && !strings.ContainsAny(one, ":@") { // bare links are links
			assert.Equal(t, "<p>"+Text(one)+"</p>\n", strings.ReplaceAll(HTML(escaped), "&quot;", "&#34;"), "%q", escaped)
		}
	})
}

func TestPlain(t *testing.T) {
	t.Parallel()
	const text = "The \\*height\\* of `a\\*b` and ``x`\\y``\n\n```\n  p\\*q \\`\n```\nafter\\_it"
	assert.Equal(t, "The *height* of `a\\*b` and ``x`\\y``\n\n```\n  p\\*q \\`\n```\nafter_it", Plain(text))
}
