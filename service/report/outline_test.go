package report

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOutline(t *testing.T) {
	t.Parallel()
	const answer = `{"aligned":3,"first":{"kind":"value","leftValue":"2","right":{"moment":40,"file":"book.go"},"nothing":null,"empty":[]},"causes":[{"name":"p.Corrections","why":"added\ntwice"},{"name":"x"},7,[1,2]],"text":"","sure":false}`
	want := "aligned: 3\nfirst:\n  kind: value\n  leftValue: 2\n  right:\n    moment: 40\n    file: book.go\ncauses:\n  - name: p.Corrections\n    why:\n      added\n      twice\n  - name: x\n  - 7\n  - - 1\n    - 2\nsure: false"
	assert.Equal(t, want, outline(answer, 1000))
	for _, text := range []string{"", "{", "not JSON", `{"a":1} 2`, `{"a":}`} {
		assert.Equal(t, text, outline(text, 1000))
	}
	deep := strings.Repeat(`{"a":`, 200) + "1" + strings.Repeat("}", 200)
	assert.Contains(t, outline(deep, 100_000), `{"a":{"a":`)
}

// A long answer is outlined in little time: only what is shown is read.
func TestLongOutline(t *testing.T) {
	t.Parallel()
	list := make([]map[string]any, 100_000)
	for i := range list {
		list[i] = map[string]any{"moment": i, "text": "the tide"}
	}
	answer, err := json.Marshal(list)
	require.NoError(t, err)
	begun := time.Now()
	got := Exhibit("trace", "{}", string(answer))
	assert.Less(t, len(got), mostOfAnswer+200)
	assert.Contains(t, got, fmt.Sprintf("the whole answer has %d bytes", len(answer)))
	assert.Less(t, time.Since(begun), 5*time.Second, "and not the square of it")
}

// Whatever is in an answer, every text of it is in the outline, once.
func FuzzOutline(f *testing.F) {
	f.Add(`{"a":["b",{"c":"d"}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		got := outline(text, 1<<20)
		if !json.Valid([]byte(text)) {
			assert.Equal(t, text, got)
		}
	})
}
