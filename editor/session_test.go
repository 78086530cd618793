package editor

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
)

const crash = "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\nmain.main()\n\t/src/berth.go:20 +0x1d\n"

func crashed(t testing.TB) client.Target {
	path := filepath.Join(t.TempDir(), "crash")
	require.NoError(t, os.WriteFile(path, []byte(crash), 0o600))
	r, err := kinds.All.Open(context.Background(), path, evidence.Options{}, nil)
	require.NoError(t, err)
	return client.Target{Local: ask.Subject{Recording: r}}
}

func framed(content string) string {
	return fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(content), content)
}

// conversation are requests that begin a session; %s is one more.
const conversation = `{"seq":1,"type":"request","command":"initialize","arguments":{}}|{"seq":2,"type":"request","command":"launch","arguments":{}}|{"seq":3,"type":"request","command":"configurationDone"}|%s`

func talk(request string) string {
	var b strings.Builder
	for _, x := range strings.Split(fmt.Sprintf(conversation, request), "|") {
		b.WriteString(framed(x))
	}
	return b.String()
}

// Whatever an editor sends, the session answers or ends, soon and without a panic.
func FuzzSession(f *testing.F) {
	for command := range handlers {
		f.Add(fmt.Sprintf(`{"seq":4,"type":"request","command":%q,"arguments":{"threadId":1,"frameId":1,"variablesReference":2,"expression":"1","levels":-5,"startFrame":99999999999,"memoryReference":"0x1","count":-1,"instructionCount":5,"source":{"path":"/src/berth.go"},"breakpoints":[{"line":-7}],"filters":["x"]}}`, command))
	}
	f.Add(`{"seq":4}`)
	f.Add("null")
	of := crashed(f)
	f.Fuzz(func(t *testing.T, request string) {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		var out bytes.Buffer
		s := NewSession(of, ".", nil, &out)
		_ = s.Serve(ctx, strings.NewReader(talk(request)))
		require.NoError(t, ctx.Err())
		s = NewSession(of, ".", nil, io.Discard)
		_ = s.Serve(ctx, strings.NewReader(request))
		require.NoError(t, ctx.Err())
	})
}

// The evidence names a file by its end, or in full; an editor by where it is on its machine.
func TestSuffixes(t *testing.T) {
	t.Parallel()
	assert.Equal(t, []string{"/home/ines/berth/berth.go", "home/ines/berth/berth.go", "ines/berth/berth.go", "berth/berth.go", "berth.go"}, suffixes("/home/ines/berth/berth.go"))
	assert.Equal(t, []string{`C:/src/a.go`, "src/a.go", "a.go"}, suffixes(`C:\src\a.go`))
	assert.Equal(t, []string{"a.go"}, suffixes("a.go"))
}

func TestHitConditionsAndLogTexts(t *testing.T) {
	t.Parallel()
	for condition, want := range map[string]string{"5": "5", ">= 5": "5", "== 5": "5", "% 100": "every 100", "%3": "every 3", "last": "last", "": ""} {
		assert.Equal(t, want, nth(condition), condition)
	}
	for text, want := range map[string][]string{"{a} at {b.c} 5%": {"%s at %s 5%%", "a", "b.c"}, "no value": {"no value"}, "{ open": {"{ open"}, "{}": {"{}"}, "a { b {c}": {"a %s", " b {c"}} {
		format, expressions := logForm(text)
		assert.Equal(t, want, append([]string{format}, expressions...), text)
	}
}
