package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/cli"
	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// wrongTexts are put into every parameter of every question. Some are right for some of
// them.
var wrongTexts = []string{
	"", " ", "nowhere", "-1", "-2", "0", "1.5", "99", "1099511627776", "9223372036854775807", "18446744073709551616", "1e999", "0xzz",
	"a\x00b", "\xff\xfe", "quay..x", "[", "x <", "1 == 1", "1 +", "line nowhere.go:1", "line berth.go:0", "enter nowhere", "write a..b", "shout", "error a\x00",
	"true", "every 0", "last before x", "..", "/etc/passwd", strings.Repeat("a", 5000), strings.Repeat("(", 1500),
}

// fitting are texts for parameters that a question cannot do without.
var fitting = map[string]string{"expression": "1 == 1", "path": "clearance", "address": "0x1000", "file": "berth.go", "on": "line berth.go:63", "way": "over", "columns": "1", "text": "978.25"}

// nestedForms are the requests of questions that do not fit into a query, with a place for a text. Where expressions are evaluated at all
// hits, the checkpoint has few.
var nestedForms = map[string][]string{
	"ledger": {`{"hits":{"on":%s},"columns":["1"]}`, `{"hits":{"on":"line berth.go:63","when":%s},"columns":["1"]}`, `{"hits":{"on":"line berth.go:63","nth":%s},"columns":["1"]}`,
		`{"writes":%s,"columns":["1"]}`, `{"call":true,"columns":[%s]}`, `{"call":true,"columns":%s}`, `{"call":true,"columns":["1"],"thread":%s}`, `{"call":true,"columns":["1"],"moment":%s}`, `{"columns":["1"],"from":%s}`},
	"check": {`{"expectations":[{"checkpoint":%s,"that":"1 == 1"}]}`, `{"expectations":[{"checkpoint":"enter Book.Apply","that":%s}]}`, `{"expectations":[{"checkpoint":"enter Book.Apply","that":"n.PressureHectopascal > 0.0","when":%s}]}`,
		`{"expectations":[{"checkpoint":"enter Book.Apply","that":"1 == 1","text":%s}]}`, `{"expectations":[%s]}`, `{"expectations":%s}`},
	"pairs": {`{"hits":{"on":%s},"key":"1","value":"1"}`, `{"hits":{"on":"enter Book.Apply"},"key":%s,"value":"1"}`, `{"hits":{"on":"enter Book.Apply"},"key":"1","value":%s}`, `{"hits":{"on":"enter Book.Apply"},"with":{"on":%s},"key":"1","value":"1"}`,
		`{"hits":{"on":"enter Book.Apply"},"key":"1","value":"1","in":%s}`, `{"hits":{"on":"enter Book.Apply"},"key":"1","value":"1","withKey":%s,"withValue":%s}`},
}

// walked is evidence of one kind, here and in the service.
type walked struct {
	name, path string
	local      replay.Recording
}

// walkedEvidence adds evidence of kinds that can do different things to the case.
func walkedEvidence(t *testing.T, p person) []walked {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	list := []walked{
		{name: "failing-run", path: failingRun(t)},
		{name: "crash", path: file("crash", "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\nmain.main()\n\t/src/main.go:7 +0x2a\nexit status 2\n")},
		{name: "messages", path: file("messages", `{"time":"2026-11-25T10:00:00Z","level":"INFO","msg":"gate opens","order":7}`+"\n"+`{"time":"2026-11-25T10:00:01Z","level":"ERROR","msg":"no berth","order":7}`+"\n")},
	}
	if x, err := stuck(); err == nil && x[0] != "" {
		list = append(list, walked{name: "dump", path: x[0]})
	}
	for i, w := range list {
		if i > 0 {
			p.fine(t, "evidence", "add", "shallow-berth", w.path, "--name", w.name)
		}
		r, err := kinds.All.Open(context.Background(), w.path, evidence.Options{Artifacts: evidence.Artifacts{Alone: true}}, nil)
		require.NoError(t, err)
		list[i].local = r
	}
	return list
}

// wrongRequest is a question with a text in one of its parameters.
type wrongRequest struct {
	question ask.Question
	values   url.Values
	body     []byte // of a question that does not fit into a query
}

func (w wrongRequest) String() string {
	return strings.ToValidUTF8(fmt.Sprintf("%s %.120q %.120s", w.question.Name, w.values.Encode(), w.body), "?")
}

// wrongRequests lists the requests for a question.
func wrongRequests(q ask.Question) (list []wrongRequest) {
	fields := ask.Fields(q.Request)
	add := func(name, text string) {
		values := url.Values{}
		for _, f := range fields {
			if fits, ok := fitting[f.Name]; ok && f.Name != name {
				values.Set(f.Name, fits)
			}
		}
		if name != "" {
			values.Set(name, text)
		}
		list = append(list, wrongRequest{question: q, values: values})
	}
	if q.Nested() {
		for _, text := range wrongTexts {
			quoted, _ := json.Marshal(text)
			for _, form := range append(nestedForms[q.Name], `{%s:1}`, `%s`, `{"call":true`) {
				list = append(list, wrongRequest{question: q, body: []byte(strings.ReplaceAll(form, "%s", string(quoted)))})
				if number := strings.Trim(text, " "); json.Valid([]byte(number)) {
					list = append(list, wrongRequest{question: q, body: []byte(strings.ReplaceAll(form, "%s", number))})
				}
			}
		}
		return list
	}
	add("", "")
	add("nowhere", "1")
	for _, f := range fields {
		for _, text := range wrongTexts {
			add(f.Name, text)
		}
	}
	return list
}

// busy is the time limit of the questions: the machine may be busy with other tests.
const busy = time.Minute

// answerHere answers the request without a service.
func (w wrongRequest) answerHere(r replay.Recording) (any, error) {
	request := w.question.New()
	if err := ask.Decode(w.values, request); err != nil {
		return nil, err
	}
	if w.body != nil {
		if err := ask.DecodeJSON(bytes.NewReader(w.body), request); err != nil {
			return nil, err
		}
	}
	return w.question.Run(context.Background(), ask.Subject{Recording: r, Limit: busy, Stops: func(context.Context) ([]ask.Stop, error) { return nil, nil }}, reflect.ValueOf(request).Elem().Interface())
}

// send asks the service.
func (w wrongRequest) send(t *testing.T, s *service, token, evidence string) *http.Response {
	method := http.MethodGet
	if w.body != nil {
		method = http.MethodPost
	}
	unmasked := ""
	if evidence == "dump" { // here memory is shown as it is
		unmasked = "unmask=true&"
	}
	q, err := http.NewRequest(method, s.url+"/api/cases/shallow-berth/evidence/"+evidence+"/"+w.question.Name+"?within="+busy.String()+"&"+unmasked+w.values.Encode(), bytes.NewReader(w.body))
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+token)
	if w.body != nil {
		q.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	return answer
}

// Every question with every kind of wrong input, on evidence that can do different things:
// the service never answers an internal error, says what is wrong and what to do, and
// gives the code and the words that the same question has without it.
func TestWrongInputIsAnsweredByTheService(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := withEvidence(t, ines)
	all := walkedEvidence(t, ines)
	signIn, err := s.signedIn(t, ines).SignIn(context.Background(), api.Credentials{Name: ines.name, Password: ines.password}, "walk")
	require.NoError(t, err)
	for _, q := range ask.Questions() {
		t.Run(q.Name, func(t *testing.T) {
			t.Parallel()
			refused := 0
			for i, w := range wrongRequests(q) {
				for _, e := range someOf(all, i) {
					if turn := i / len(all); e.name == "dump" && (turn%3 != 0 || q.Name == "search" && turn%8 != 0) {
						continue // each answer is unmasked, and recorded; search reads all memory
					}
					answer := w.send(t, s, signIn.Secret, e.name)
					text, err := io.ReadAll(answer.Body)
					answer.Body.Close()
					require.NoError(t, err)
					_, here := w.answerHere(e.local)
					if strings.Contains(w.values.Encode(), "%00") || strings.Contains(w.values.Encode(), "%FF") {
						here = fault.InvalidText.New("", "invalid address: not valid UTF-8, or with a control character") // before anything else
					}
					if here == nil {
						assert.Equal(t, http.StatusOK, answer.StatusCode, "%s %s: %s", e.name, w, text)
						continue
					}
					refused++
					kind, remedy := fault.Of(here)
					var p api.Problem
					if !assert.Less(t, answer.StatusCode, 500, "%s %s: %s", e.name, w, text) || !assert.NoError(t, json.Unmarshal(text, &p), "%s", text) {
						continue
					}
					assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"), "%s", w)
					assert.Equal(t, kind.Status, answer.StatusCode, "%s %s: %s", e.name, w, text)
					said := strings.ToValidUTF8(here.Error(), "\ufffd")
					if begun, isCut := strings.CutSuffix(p.Detail, "…"); isCut && len(begun) > 1000 { // the service does not repeat long texts
						said = said[:min(len(said), len(begun))] + "…"
					}
					assert.Equal(t, []string{kind.Code, said, remedy}, []string{p.Type, p.Detail, p.Remedy}, "%s %s", e.name, w)
					assert.NotEmpty(t, p.RequestID)
					assert.NotContains(t, p.Detail, "\x00")
				}
			}
			assert.Positive(t, refused, "no input of %s was refused", q.Name)
		})
	}
}

// someOf returns one kind of evidence after the other; all of them take make truth.
func someOf(all []walked, i int) []walked {
	if isWhole() {
		return all
	}
	return all[i%len(all) : i%len(all)+1]
}

// isWhole reports whether all that is wrong is tried, and not a part of it.
func isWhole() bool { return os.Getenv("WRAITH_TRUTH") != "" }

// flagOf matches a flag in the help of a command.
var flagOf = regexp.MustCompile(`(?m)^\s+(?:-\w, )?--([\w-]+) (?:number|string|duration)`)

// Every command of a question, with wrong text in every flag, argument and part of the
// locator, ends in the same way for a file and for shared evidence.
func TestWrongInputOfCommands(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	withEvidence(t, ines)
	all := walkedEvidence(t, ines)[:3] // a dump reads this machine's files too when it is a file here
	run := func(args ...string) ran {
		var out, errOut bytes.Buffer
		code := cli.Main(context.Background(), append([]string{"--config", ines.config}, args...), strings.NewReader(""), &out, &errOut)
		return ran{out.String(), errOut.String(), code}
	}
	for _, e := range all { // two processes that build the same timeline at once are not what this is about
		run("threads", e.path)
	}
	for _, q := range ask.Questions() {
		help := run("help", q.Name)
		if !strings.Contains(help.out, "wraith "+q.Name) || slices.Contains([]string{"instant", "compare", "pairs"}, q.Name) {
			continue // it has no command, or one that needs other evidence
		}
		t.Run(q.Name, func(t *testing.T) {
			t.Parallel()
			var required []string
			for _, f := range ask.Fields(q.Request) {
				if f.Tag.Get("arg") != "" {
					required = append(required, fitting[f.Name])
				}
			}
			for i := range required {
				if required[i] == "" {
					required[i] = "1"
				}
			}
			places := []string{"", "@nowhere", "@-1", "@1099511627776", "@1#99", "@1#x", "@1#1.99", "@1#1.x", "@\x00", "@18446744073709551616", "#1099511627776.1"}
			var list [][]string
			for _, place := range places {
				list = append(list, append([]string{place}, required...))
			}
			for _, text := range wrongTexts {
				for i := range required {
					line := append([]string{""}, required...)
					line[i+1] = text
					list = append(list, line)
				}
				for _, m := range flagOf.FindAllStringSubmatch(help.out, -1) {
					if slices.Contains([]string{"config", "within", "as", "field", "source", "binary", "debug", "own", "path", "zone", "pattern", "longest-text"}, m[1]) {
						continue // of files, not of the question
					}
					list = append(list, append([]string{"", "--" + m[1] + "=" + text}, required...))
				}
			}
			for i, line := range list {
				if i%2 > 0 && !isWhole() {
					continue
				}
				for _, e := range someOf(all, i/2) {
					command := func(name string) ran {
						// With time enough on a busy machine: a question that ran out of it is another answer.
						r := run(append([]string{q.Name, "--within", "1m", name + line[0]}, line[1:]...)...)
						r.err, r.out = strings.ReplaceAll(r.err, name, "EVIDENCE"), strings.ReplaceAll(r.out, name, "EVIDENCE")
						return r
					}
					here, shared := command(e.path), command("shallow-berth/"+e.name)
					label := fmt.Sprintf("%s %.150q on %s", q.Name, line, e.name)
					assert.Equal(t, here, shared, label)
					assert.Less(t, here.code, fault.ExitInternal, "%s: %s", label, here.err)
					if here.err != "" {
						assert.Len(t, strings.Split(strings.TrimSuffix(here.err, "\n"), "\n"), 2, "%s: one line what, one line what to do: %s", label, here.err)
					}
				}
			}
		})
	}
}
