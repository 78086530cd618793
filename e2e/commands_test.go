package e2e

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the transcript again")

const (
	pilotsLog = `{"time":"2026-11-20T06:00:00Z","level":"INFO","msg":"pilot boards","pilot":11,"vessel":"Halcyon Drift"}
{"time":"2026-11-20T06:00:01.5Z","level":"INFO","msg":"berth assigned","berth":"Kelp Quay 3","sill":3.1}
{"time":"2026-11-20T06:00:02Z","level":"ERROR","msg":"berth is too shallow","berth":"Kelp Quay 3","error":"needs 4.2 m"}
`
	pilotsCrash = `panic: berth is too shallow

goroutine 1 [running]:
main.assign(0x3)
	/src/berthing/assign.go:41 +0x1d
main.main()
	/src/berthing/main.go:12 +0x25
exit status 2
`
)

// sessions are the lines of the transcript: who, then a command. "<" gives what follows to its
// standard input.
var sessions = strings.Split(strings.TrimSpace(`
Ines case
Ines case open pilots --title "Pilots board late"
Ines case open pilots
Ines case open Pilots!
Ines case
Tomas case
Ines case add pilots Tomas --role viewer
Ines case add pilots Nobody
Ines case add pilots Tomas --role captain
Tomas case
Tomas case add pilots Ines --role viewer
Ines case add pilots Ines --role member
Ines evidence pilots
Ines evidence add pilots LOG
Ines evidence add pilots LOG
Ines evidence add pilots CRASH --name crash-of-friday
Ines evidence add pilots LOG --name same-log
Ines evidence add pilots missing.log
Ines evidence add pilots - < {"time":"2026-11-20T06:00:00Z","msg":"from a pipe"}
Ines evidence add pilots - --name piped < {"time":"2026-11-20T06:00:00Z","msg":"from a pipe"}
Ines evidence add pilots - --name empty <
Tomas evidence add pilots LOG --name mine
Tomas evidence pilots
Ines evidence pilots --text panic
Ines evidence pilots --after same-log
Ines evidence pilots --after nothing
Ines evidence tides
Ines peek pilots/pilots
Tomas peek pilots/crash-of-friday
Tomas stack pilots/crash-of-friday
Tomas values pilots/pilots@2
Tomas messages pilots/pilots@1
Ines alike pilots/same-log
Ines alike pilots/piped
Ines alike pilots
Ines checkpoint pilots
Ines checkpoint set pilots --enter log
Ines checkpoint set pilots --message shallow
Ines checkpoint set pilots --error shallow --when "sill > 1.0" --in pilots
Ines checkpoint set pilots --enter log --when "pilot =="
Ines checkpoint set pilots --line assign.go:41 --nth odd
Ines checkpoint set pilots --write vessel --in pilots@2#1
Ines checkpoint set pilots --write vessel
Ines checkpoint set pilots
Tomas checkpoint set pilots --enter log
Tomas checkpoint pilots
Ines checkpoint disable pilots 1
Ines checkpoint pilots
Ines checkpoint enable pilots 1
Ines checkpoint enable pilots one
Ines checkpoint delete pilots 99
Ines checkpoint delete pilots 2
Ines hits pilots/pilots --enter log
Ines run pilots/pilots@0 --enter log
Ines checkpoint pilots
Ines sender
Ines sender pilots --inbox
Ines sender pilots --label "pilot boats"
Ines sender --inbox --label "anything"
Ines sender list pilots
Tomas sender pilots
Ines sender delete pilots x
Ines sender delete pilots 77
Ines sender delete pilots 1
Ines sender list pilots
Ines artifact pilots
Ines artifact add pilots BINARY --name berthing
Ines artifact add pilots LOG
Ines artifact add pilots missing
Tomas artifact pilots
Tomas artifact add pilots BINARY
Ines case open tides --title Tides
Tomas case open own --title "His own"
Ines move pilots/piped tides
Ines move pilots/piped tides
Ines move pilots tides
Ines move tides/piped own
Ines evidence tides
Tomas move pilots/pilots own
Ines offset pilots/pilots 1.5s
Ines offset pilots/pilots soon
Ines instant pilots/pilots@1 pilots/same-log
Ines instant pilots/pilots@1
Ines messages pilots/pilots@1 --of trace
Ines messages pilots/pilots@1 other.log
Ines meanwhile pilots/pilots 5
Ines changed pilots/pilots@2
Ines changed pilots/pilots@3
Ines step pilots/pilots@0 --head=-1
Ines search pilots/pilots shallow
Ines search pilots/pilots 3.1
Ines search pilots/pilots --object pilots/pilots@2
Ines origin pilots/pilots@3 error
Ines writes pilots/pilots@3 error
Ines threads pilots/pilots@3
Ines memory pilots/pilots 0x1000
Ines traces pilots/pilots
Ines record
Ines record -o x.wraith --ring=-1 -- go run .
Ines stak pilots/pilots
Ines zebra
Tomas sitting
Tomas sitting lead pilots/pilots@2
Tomas sitting lead pilots
Ines sitting lead pilots/pilots@1
Tomas sitting follow pilots/pilots --states 1
Ines sitting follow pilots/nothing --states 1
Ines sitting lead pilots/pilots@77
Ines team
Ines team new watch
Ines team new watch
Ines team new Watch!
Ines team add watch Tomas
Ines team add watch Nobody
Ines team members watch
Tomas team
Tomas team add watch Ines
Tomas case remove pilots Ines
Ines case teams pilots --add tides
Ines case teams pilots --add watch
Ines case teams pilots
Ines case members pilots
Ines case custody pilots --text "team watch"
Ines case add pilots Tomas --role viewer
Ines case remove pilots Tomas
Ines case remove pilots Ines
Ines case invite pilots --days 0
Ines case invite pilots --role captain
Tomas case invite pilots
Tomas case invite pilots --accounts
Ines case invite pilots --role viewer --places 2 --days 7
Ines case invitations pilots
Ines case invitations pilots --withdraw 77
Ines case invitations pilots --withdraw 1
Tomas join URL/join#AAAA
Tomas join http://127.0.0.1:9/join#AAAA
Tomas join AAAA
Ines case teams pilots --remove watch
Ines case teams pilots --remove watch
Ines team remove watch Ines
Ines team delete watch
Ines team members watch
Ines evidence --json pilots
Ines checkpoint pilots --json
Ines sender list pilots --json
Nobody case
Nobody sign-in URL
Nobody sign-in URL --name Nobody < wrong
Nobody sign-in URL --name Ines < wrong
Nobody sign-in http://127.0.0.1:9 --name Ines < Ines-secret
Nobody sign-in URL --name Ines < Ines-secret
Nobody case
`), "\n")

// What two people see who work with a case on the command line, in their order.
func TestCommandsOfACase(t *testing.T) {
	t.Parallel()
	people := map[string]person{"Ines": somebody(t, "Ines"), "Tomas": somebody(t, "Tomas"), "Nobody": {config: filepath.Join(t.TempDir(), "none.json")}}
	s := start(t, people["Ines"], people["Tomas"])
	people["Ines"].signIn(t, s.url)
	people["Tomas"].signIn(t, s.url)
	dir := t.TempDir()
	files := map[string]string{"LOG": filepath.Join(dir, "pilots.jsonl"), "CRASH": filepath.Join(dir, "crash.txt"), "BINARY": filepath.Join(work, "wraith"), "URL": s.url}
	require.NoError(t, os.WriteFile(files["LOG"], []byte(pilotsLog), 0o666))
	require.NoError(t, os.WriteFile(files["CRASH"], []byte(pilotsCrash), 0o666))
	var text strings.Builder
	for _, line := range sessions {
		text.WriteString("$ " + line + "\n")
		command, stdin, _ := strings.Cut(line, " <")
		list := words(command)
		for i, w := range list {
			if f, ok := files[w]; ok {
				list[i] = f
			}
			if after, ok := strings.CutPrefix(w, "URL/"); ok {
				list[i] = s.url + "/" + after
			}
		}
		r := people[list[0]].wraith(t, strings.TrimPrefix(stdin, " "), list[1:]...)
		text.WriteString(r.out)
		if r.err != "" {
			text.WriteString(r.err)
		}
		if r.code != 0 {
			text.WriteString("ended with " + string(rune('0'+r.code)) + "\n")
		}
	}
	got := lasting(text.String(), s.url, dir)
	golden := filepath.Join("testdata", "commands.txt")
	if *update {
		require.NoError(t, os.WriteFile(golden, []byte(got), 0o666))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
}

// words splits a line like a shell does, with double quotes.
func words(line string) (list []string) {
	for _, m := range regexp.MustCompile(`"([^"]*)"|\S+`).FindAllStringSubmatch(line, -1) {
		if strings.HasPrefix(m[0], `"`) {
			list = append(list, m[1])
		} else {
			list = append(list, m[0])
		}
	}
	return list
}

// lasting replaces what differs between runs.
func lasting(text, url, dir string) string {
	host, _ := os.Hostname()
	var days []string // midnight may pass, and zones differ
	for _, n := range []int{-1, 0, 1} {
		days = append(days, time.Now().UTC().AddDate(0, 0, n).Format("2006-01-02"))
	}
	next := time.Now().UTC().AddDate(0, 0, 7)
	week := strings.Join([]string{next.AddDate(0, 0, -1).Format(time.DateOnly), next.Format(time.DateOnly), next.AddDate(0, 0, 1).Format(time.DateOnly)}, "|")
	for _, x := range [][2]string{
		{`(` + week + `) \d\d:\d\d`, "IN A WEEK"},
		{regexp.QuoteMeta(url), "URL"}, {regexp.QuoteMeta(dir), "DIR"}, {regexp.QuoteMeta(work), "WORK"}, {`\bon ` + regexp.QuoteMeta(host) + `\b`, "on HOST"},
		{`(` + strings.Join(days, "|") + `)[T ]\d\d:\d\d(:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)?)?`, "NOW"}, {`\b[A-Z2-7]{40,60}\b`, "SECRET"}, {`request [0-9a-zA-Z/-]+`, "request ID"},
		{`"(readNs|tookNs|indexNs)":\s*\d+`, `"$1":0`}, {`(build ID )[0-9a-f]{40}`, "${1}BUILD"}, {`\b[0-9a-f]{40}\b`, "BUILD"}, {`\b\d{7,9}( bytes|  )`, "SIZE$1"},
	} {
		text = regexp.MustCompile(x[0]).ReplaceAllString(text, x[1])
	}
	return text
}
