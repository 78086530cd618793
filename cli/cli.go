// Package cli is the command line of Wraithology: Cobra commands that ask local
// evidence through core and shared evidence through the client, in the same way.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/coredump/elfcore"
	"wraithology/core/coredump/module"
	"wraithology/core/evidence"
	"wraithology/core/locator"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/structuredlog"
	"wraithology/recorder"
)

// Exit codes of every command. A recorded program's own code passes through
// wraith record instead.
const (
	ExitFine       = 0
	ExitNo         = 1
	ExitUsage      = 2
	ExitUnreadable = 3
)

// errNo says that the answer is no, or that nothing was found; what was printed
// says the rest.
var errNo = errors.New("")

// exitCode carries the code of a recorded program.
type exitCode int

func (e exitCode) Error() string { return fmt.Sprintf("ended with code %d", int(e)) }

// usageError is an error with what to do about it on a line of its own.
type usageError struct{ what, do string }

func (e usageError) Error() string { return e.what + "\n" + e.do }

type app struct {
	in       io.Reader
	out, err io.Writer
	json     bool
	config   string
	binaries []string
	debug    []string
	source   []string
	paths    map[string]string
	as       string
	fields   map[string]string
	own      []string
	piped    string // a copy of what came from standard input
}

// Main runs the command line and returns its exit code.
func Main(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errOut}
	root := a.root()
	root.SetArgs(args)
	defer a.removePiped()
	return a.exit(root.ExecuteContext(ctx))
}

func (a *app) exit(err error) int {
	var code exitCode
	var usage usageError
	switch {
	case err == nil:
		return ExitFine
	case err == errNo:
		return ExitNo
	case errors.As(err, &code):
		return int(code)
	}
	what, do := err.Error(), remedy(err)
	if errors.As(err, &usage) {
		what, do = usage.what, usage.do
	}
	fmt.Fprintln(a.err, "wraith: "+strings.ReplaceAll(what, "\n", " "))
	fmt.Fprintln(a.err, "  "+do)
	switch {
	case errors.Is(err, evidence.ErrUnreadable):
		return ExitUnreadable
	case errors.Is(err, question.ErrNoName), errors.Is(err, question.ErrNoValue), errors.Is(err, replay.ErrOutOfRange), errors.Is(err, replay.ErrNoCode), errors.Is(err, replay.ErrNoName), errors.Is(err, errNoHit),
		errors.Is(err, replay.ErrNoFrame), errors.Is(err, replay.ErrOneMoment), errors.Is(err, replay.ErrNoMachine), errors.Is(err, replay.ErrNoThread), errors.Is(err, replay.ErrNoSource), errors.Is(err, client.ErrNotFound), errors.Is(err, client.ErrNotSignedIn),
		errors.Is(err, client.ErrRefused), errors.Is(err, client.ErrUnavailable), errors.Is(err, recorder.ErrNothingRecorded):
		return ExitNo
	}
	return ExitUsage
}

// remedy says what to do about an error.
func remedy(err error) string {
	for _, r := range [...]struct {
		is error
		do string
	}{
		{module.ErrWrongBuild, "fetch the binary from the machine that crashed, or the package of that version"},
		{module.ErrNoELF, "give --binary the program that crashed, as it was built"},
		{elfcore.ErrArchitecture, "core dumps of x86-64 and arm64 Linux are read"},
		{client.ErrNotSignedIn, "wraith sign-in URL --name NAME"},
		{evidence.ErrUnreadable, "check the path and fetch or record the file again; wraith record -o FILE -- COMMAND makes an execution log"},
		{locator.ErrMalformed, "write it as EVIDENCE@MOMENT#THREAD.FRAME; all but the evidence may be left off"},
		{question.ErrSyntax, "write it in the Common Expression Language, for example: water - draught < 0.5"},
		{question.ErrNoName, "wraith values LOCATOR lists the names of the frame"},
		{question.ErrNoValue, "wraith values LOCATOR shows the values and types of the frame"},
		{replay.ErrOutOfRange, "wraith peek EVIDENCE says how many moments there are"},
		{replay.ErrNoThread, "wraith stack --all LOCATOR lists the threads"},
		{replay.ErrNoFrame, "wraith stack LOCATOR lists the frames"},
		{replay.ErrOneMoment, "wraith stack, values, ask, threads, memory and instructions work on it"},
		{replay.ErrNoMachine, "memory and instructions are there for core dumps"},
		{replay.ErrNoTraces, "wraith traces EVIDENCE lists them"},
		{evidence.ErrKind, "--as KIND says what it is"},
		{structuredlog.ErrRule, "for example --field thread=order_id"},
		{replay.ErrNoCode, "name one of these"},
		{replay.ErrNoName, "wraith values LOCATOR lists the names of the frame"},
		{replay.ErrPath, "write it as quay, quay.Depth, berths[2], table[\"Inner Ness\"] or *p"},
		{replay.ErrNumber, "for example --nth last"},
		{errNoHit, "wraith hits lists all of them; --back looks the other way"},
		{recorder.ErrUsage, "write it as wraith record -o FILE -- go run|test|build …, or -- PROGRAM that such a build made"},
		{recorder.ErrNothingRecorded, "check that the command runs code of the module that it is started in"},
		{client.ErrRefused, "ask the person who leads the case to add you"},
		{client.ErrNotFound, "wraith case and wraith evidence CASE list what there is"},
		{client.ErrUnavailable, "check the address with wraith sign-in, and that wraithd runs"},
	} {
		if errors.Is(err, r.is) {
			return r.do
		}
	}
	return "wraith help says how each command is used"
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "wraith",
		Short:         "Replay what already happened: execution logs, core dumps, event traces, logs and crash texts, with their stacks and values",
		Long:          "wraith records programs, replays recordings, event traces, logs and runtime traces, and reads core dumps and crash texts.\n\nA place in evidence is named by a locator, EVIDENCE@MOMENT#THREAD.FRAME. EVIDENCE is\na file, - for standard input, or CASE/NAME in the service. What is left off means the failure's moment,\nits thread, and frame 0.",
		SilenceErrors: true, SilenceUsage: true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print the answer as JSON")
	root.PersistentFlags().StringVar(&a.config, "config", defaultConfig(), "file that keeps the sign-in")
	root.PersistentFlags().StringArrayVar(&a.binaries, "binary", nil, "for a core dump: a program or library that it was made of")
	root.PersistentFlags().StringArrayVar(&a.debug, "debug", nil, "for a core dump: a folder with binaries or separate debug files")
	root.PersistentFlags().StringArrayVar(&a.source, "source", nil, "for a core dump: a folder with source text")
	root.PersistentFlags().StringVar(&a.as, "as", "", "what kind of evidence it is, where its bytes do not tell: "+kindList())
	root.PersistentFlags().StringToStringVar(&a.fields, "field", nil, "for a structured log: which field is the time, level, message, trace, thread or caller, as thread=order_id")
	root.PersistentFlags().StringArrayVar(&a.own, "own", nil, "for a crash text: a folder, or the beginning of a function's or file's name, that is the team's own; may be repeated")
	root.PersistentFlags().StringToStringVar(&a.paths, "source-path", nil, "for a core dump: BUILD=HERE, where a path of the build is found")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{err.Error(), "wraith help " + c.Name() + " lists its options"}
	})
	root.AddCommand(a.record(), a.peek(), a.stack(), a.values(), a.ask(), a.hits(), a.run(), a.step(), a.writes(), a.origin(), a.ledger(), a.search(), a.changed(), a.meanwhile(),
		a.threads(), a.memory(), a.instructions(), a.traces(), a.trace(), a.messages(), a.instant())
	root.AddCommand(a.serviceCommands()...)
	return root
}

func defaultConfig() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "wraith.json"
	}
	return dir + "/wraith/sign-in.json"
}

// args checks the number of a command's arguments.
func args(least, most int, wanted string) cobra.PositionalArgs {
	return func(c *cobra.Command, given []string) error {
		if len(given) < least || len(given) > most {
			return usageError{fmt.Sprintf("%s was given %d arguments", c.CommandPath(), len(given)), "use: " + c.CommandPath() + " " + wanted}
		}
		return nil
	}
}

// print writes v as JSON, or lets text write it for people.
func (a *app) print(v any, text func(io.Writer)) error {
	if a.json {
		e := json.NewEncoder(a.out)
		e.SetEscapeHTML(false)
		e.SetIndent("", "  ")
		return e.Encode(v)
	}
	text(a.out)
	return nil
}
