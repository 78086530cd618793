package recorder_test

import (
	"bytes"
	"context"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/recorder"
)

const secrets = "testdata/secrets"

// events returns the unpacked events and tables of a log: all that it says, apart from source text.
func everything(t *testing.T, path string) []byte {
	t.Helper()
	log, err := execlog.OpenFile(path)
	require.NoError(t, err)
	defer log.Close()
	var all bytes.Buffer
	for _, b := range log.Blocks {
		payload, err := log.Payload(b)
		require.NoError(t, err)
		all.Write(payload)
	}
	for _, f := range log.Files {
		all.WriteString(f.Text)
	}
	for _, p := range log.Processes {
		for _, a := range p.Args {
			all.WriteString(a + "\n")
		}
	}
	for _, a := range log.Header.Command {
		all.WriteString(a + "\n")
	}
	for _, e := range log.Ends {
		all.WriteString(e.Crash)
	}
	return all.Bytes()
}

// Passwords, tokens and keys are in no part of a log, whatever holds them, at any level of detail.
func TestSecretsStayOutOfTheLog(t *testing.T) {
	t.Parallel()
	for _, detail := range []recorder.Detail{{}, {Level: recorder.Calls}, {Verify: true}} {
		detail.Redact = recorder.Redaction{"type:main.pin"}
		ran := recordWith(t, recorder.Options{Detail: detail}, secrets, "go", "run", ".", "--password", "SECRETValue16", "--token=SECRETValue17")
		assert.NotZero(t, ran.ExitCode, "it panics")
		require.Contains(t, ran.out+ran.err, "SECRETValue14", "the program has them")
		all := everything(t, ran.log)
		assert.NotContains(t, string(all), "SECRETValue", "%+v", detail)
		assert.Contains(t, string(all), "(redacted)", "in the arguments and the crash text")
	}
	plain := recordWith(t, recorder.Options{Detail: recorder.Detail{Redact: recorder.Redaction{"none"}}}, secrets, "go", "run", ".")
	assert.Contains(t, string(everything(t, plain.log)), "SECRETValue12", "without rules all is recorded")

	ran := recordWith(t, recorder.Options{Detail: recorder.Detail{Redact: recorder.Redaction{"depth", "text:^ine"}}}, secrets, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	at := atMark(t, r, secrets, "end")
	c := variableAt(t, r, at, "c").Settled()
	assert.Equal(t, event.Redacted, c.Field("User").State, "for its text")
	assert.Equal(t, event.Redacted, c.Field("Password").State, "for its name")
	assert.EqualValues(t, 7, c.Field("Depth").Int, "numbers are not secret")
	headers := map[string]replay.Value{}
	children, _ := variableAt(t, r, at, "headers").Children(replay.Page{Count: 10})
	for _, child := range children {
		headers[child.Name] = child.Value
	}
	assert.Equal(t, event.Redacted, headers[`["Cookie"]`].State, "for its key")
	assert.Equal(t, "text", headers[`["Accept"]`].Value.Text)
	assert.Equal(t, event.Redacted, variableAt(t, r, at, "token").State)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: "login"}, replay.Page{Count: 1})
	require.NoError(t, err)
	require.Len(t, hits.Page, 1)
	assert.Equal(t, event.Redacted, variableAt(t, r, hits.Page[0], "password").State)
}

// A rule that means nothing is an error that says what there is.
func TestRulesOfRedaction(t *testing.T) {
	t.Parallel()
	for _, rule := range []string{"", "text:", "type:", "text:(", "--", "a\nb"} {
		_, err := recorder.Record(context.Background(), recorder.Options{Output: os.DevNull + "/x", Command: []string{"go", "run", "."}, Detail: recorder.Detail{Redact: recorder.Redaction{rule}}})
		kind, _ := fault.Of(err)
		assert.Equal(t, fault.InvalidRequest, kind, "%q: %v", rule, err)
	}
}
