package markdown

import (
	"strings"
	"testing"

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
