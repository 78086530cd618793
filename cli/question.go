package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/intake"
	"wraithology/core/locator"
	"wraithology/core/replay"
)

// question is a command that asks a question. Its flags are made from the fields of the request;
// the member flags adds others.
type question[Q ask.Request[A], A any] struct {
	use   string // with its arguments: "stack LOCATOR"
	short string
	long  string
	args  [2]int // minimum and maximum number of arguments; {1, 1} if both are 0
	// flags adds flags and returns a function that completes the request from them and from the
	// arguments after the locator.
	flags func(c *cobra.Command) func(q *Q, l *locator.Locator, rest []string) error
	print func(w io.Writer, p printing, q Q, answer A)
	// other answers the command differently if it returns true: for a case, or for several files.
	other func(c *cobra.Command, a *app, l locator.Locator, q Q, rest []string) (done bool, err error)
	// write writes the answer differently from print if it returns true.
	write func(c *cobra.Command, w io.Writer, answer A) (written bool, err error)
	// after does something with the answer beside printing it.
	after func(c *cobra.Command, answer A) error
	// previews is set if what is known of the evidence's end is shown while it is indexed.
	previews bool
}

// printing holds what is needed to print an answer, beside the answer.
type printing struct {
	name   string // moments and threads of the evidence
	source sourceReader
}

// sourceReader returns one line of source text, or "" if there is none.
type sourceReader func(file string, line int) string

// commands make the commands of questions. Each question's file adds one.
var commands []func(a *app) *cobra.Command

// register adds the command of a question.
func register[Q ask.Request[A], A any](x question[Q, A]) int {
	return registerCommand(func(a *app) *cobra.Command { return command(a, x) })
}

// registerCommand adds a command.
func registerCommand(make func(a *app) *cobra.Command) int {
	commands = append(commands, make)
	return len(commands)
}

func command[Q ask.Request[A], A any](a *app, x question[Q, A]) *cobra.Command {
	if x.args == [2]int{} {
		x.args = [2]int{1, 1}
	}
	_, usage, _ := strings.Cut(x.use, " ")
	c := &cobra.Command{Use: x.use, Short: x.short, Long: x.long, Args: args(x.args[0], x.args[1], usage)}
	var zero Q
	declared := ask.Of(zero)
	request := declared.New().(*Q)
	v := reflect.ValueOf(request).Elem()
	fields := ask.Fields(declared.Request)
	for _, f := range fields {
		bind(c.Flags(), v, f)
	}
	complete := func(*Q, *locator.Locator, []string) error { return nil }
	if x.flags != nil {
		complete = x.flags(c)
	}
	a.evidenceFlags(c)
	a.outputFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		a.previews = x.previews
		l, err := locator.Parse(args[0])
		if err != nil {
			return err
		}
		rest, err := takeArguments(v, fields, args[1:])
		if err != nil {
			return err
		}
		q := *request
		if err := complete(&q, &l, rest); err != nil {
			return err
		}
		setPlace(reflect.ValueOf(&q).Elem(), l)
		if err := ask.Validate(q, flagName); err != nil {
			return err
		}
		if x.other != nil {
			if done, err := x.other(c, a, l, q, rest); done || err != nil {
				return err
			}
		}
		t, err := a.open(c.Context(), l.Evidence)
		if err != nil {
			return err
		}
		return answerTo(c, a, x, t, q)
	}
	return c
}

// answerTo asks a question and prints the answer.
func answerTo[Q ask.Request[A], A any](c *cobra.Command, a *app, x question[Q, A], t *target, q Q) error {
	answer, err := put(c.Context(), t, ask.Request[A](q))
	if err != nil {
		return err
	}
	if x.after != nil {
		if err := x.after(c, answer); err != nil {
			return err
		}
	}
	written := false
	if x.write != nil && !a.json {
		written, err = x.write(c, a.out, answer)
	}
	if err == nil && !written {
		err = a.print(answer, func(w io.Writer) { x.print(w, printing{t.name, t.sourceLine(c.Context())}, q, answer) })
	}
	if err != nil {
		return err
	}
	if n, ok := any(answer).(ask.Negative); ok && n.Negative() {
		return errNo
	}
	return nil
}

// setPlace copies a locator's place into a request that has one.
func setPlace(q reflect.Value, l locator.Locator) {
	if p := ask.PlaceIn(q.Addr().Interface()); p != nil {
		*p = ask.Place{Moment: l.Moment, Thread: l.Thread, Frame: l.Frame}
	}
}

// takeArguments sets the fields that arguments represent and returns the remaining arguments.
func takeArguments(request reflect.Value, fields []ask.Field, args []string) (rest []string, err error) {
	isTaken := map[int]bool{}
	for _, f := range fields {
		n, err := strconv.Atoi(f.Tag.Get("arg"))
		if err != nil || n > len(args) {
			continue
		}
		isTaken[n-1] = true
		if err := ask.SetField(request, f, args[n-1:n]); err != nil {
			if k, _ := fault.Of(err); k != fault.Internal {
				return nil, err
			}
			return nil, usage("", "invalid %s %q: %w", f.Name, args[n-1], err)
		}
	}
	for i, x := range args {
		if !isTaken[i] {
			rest = append(rest, x)
		}
	}
	return rest, nil
}

// flagName returns a field's name as the user typed it, for messages.
func flagName(f ask.Field) string {
	if f.Tag.Get("arg") != "" {
		return f.Name
	}
	name := f.Tag.Get("flag")
	if name == "" || name == "-" {
		name = f.Name
	}
	return "--" + name
}

// bind adds the flag of a field to a command.
func bind(flags *pflag.FlagSet, request reflect.Value, f ask.Field) {
	name := f.Tag.Get("flag")
	if name == "-" || f.Tag.Get("arg") != "" || f.Type == reflect.TypeFor[ask.CheckpointOn]() {
		return
	}
	if name == "" {
		name = f.Name
	}
	bindAs(flags, request, f, name)
}

// bindAs adds the flag of a field with another name.
func bindAs(flags *pflag.FlagSet, request reflect.Value, f ask.Field, name string) {
	x := &fieldFlag{request: request, field: f}
	if d, ok := f.Tag.Lookup("flagDefault"); ok {
		if err := x.Set(d); err != nil {
			panic(err) // a tag is a constant
		}
	}
	flag := flags.VarPF(x, name, "", f.Doc)
	if f.Type.Kind() == reflect.Bool {
		flag.NoOptDefVal = "true"
	}
}

// fieldFlag is the flag of a field of a request.
type fieldFlag struct {
	request reflect.Value
	field   ask.Field
	list    []string
}

// Set implements pflag.Value.
func (x *fieldFlag) Set(text string) error {
	x.list = append(x.list, text)
	return ask.SetField(x.request, x.field, x.list)
}

// String implements pflag.Value.
func (x *fieldFlag) String() string {
	if x.field.Type == nil || x.field.Type.Kind() == reflect.Slice {
		return ""
	}
	v := x.request.FieldByIndex(x.field.At)
	if v.IsZero() && x.field.Type.Kind() != reflect.Bool {
		return ""
	}
	return fmt.Sprint(v.Interface())
}

// Type implements pflag.Value.
func (x *fieldFlag) Type() string {
	switch x.field.Type.Kind() {
	case reflect.Bool:
		return "bool"
	case reflect.String, reflect.Slice:
		return "string"
	}
	return "number"
}

// target is evidence that can be asked: a local recording, or evidence in the service.
type target struct {
	name string
	client.Target
}

// put asks a question of evidence.
func put[A any](ctx context.Context, t *target, q ask.Request[A]) (A, error) {
	return client.Put(ctx, t.Target, q)
}

// sourceLine returns a function that reads one line of source text.
func (t *target) sourceLine(ctx context.Context) sourceReader {
	texts := map[string][]string{}
	return func(file string, line int) string {
		lines, ok := texts[file]
		if !ok && file != "" {
			s, err := put(ctx, t, ask.FileRequest{File: file})
			if err == nil {
				lines = strings.Split(s.Text, "\n")
			}
			texts[file] = lines
		}
		if line < 1 || line > len(lines) {
			return ""
		}
		return strings.TrimSpace(lines[line-1])
	}
}

// open opens a target: a local file, or CASE/NAME in the service.
func (a *app) open(ctx context.Context, name string) (*target, error) {
	if mayBeShared(name) {
		s, err := a.inCase(name)
		if err != nil {
			return nil, alsoNoFile(name, err)
		}
		s.Within, s.Unmask = a.within, a.unmask
		return &target{name, client.Target{Shared: s}}, nil
	}
	r, err := a.openFile(ctx, name)
	if err != nil {
		return nil, err
	}
	return &target{name, client.Target{Local: ask.Subject{Recording: r, Limit: a.within}}}, nil
}

// mayBeShared reports whether a name can name evidence in the service: it has the form CASE/NAME
// and is not a file.
func mayBeShared(name string) bool {
	if name == standardInput || strings.Count(name, "/") != 1 || strings.HasPrefix(name, ".") || strings.HasPrefix(name, "/") {
		return false
	}
	_, err := os.Stat(name)
	return err != nil
}

// mayBeCase reports whether a name can only name a case.
func mayBeCase(name string) bool {
	_, err := os.Stat(name)
	return err != nil && name != standardInput && !strings.ContainsAny(name, "/@")
}

// alsoNoFile adds to an error of the service that file not found.
func alsoNoFile(name string, err error) error {
	if k, _ := fault.Of(err); k == fault.NotSignedIn {
		return fault.Unreadable.New(fault.NotSignedIn.Remedy, "evidence not readable: there is no file %s, and no service to ask for it: %w", name, detached{err})
	}
	return err
}

// detached returns an error with the text of another one that wraps nothing.
type detached struct{ error }

// openFile opens local evidence.
func (a *app) openFile(ctx context.Context, path string) (replay.Recording, error) {
	timelines, err := ownTimelines()
	if err != nil {
		return nil, err
	}
	o := evidence.Options{Timelines: timelines, As: a.as, Fields: a.rules(), Own: a.own,
		Artifacts: evidence.Artifacts{Binaries: a.binaries, Debug: a.debug, Source: a.source, Paths: a.paths, Cache: moduleCache()}}
	name := path
	if path == standardInput {
		name = "standard input"
		if path, err = a.pipe(); err != nil {
			return nil, err
		}
		o.Timelines = evidence.Timelines{} // the file is complete now
	}
	progress, end := a.progress("index " + name)
	defer end()
	if a.previews {
		shown, inner := sync.Once{}, progress
		progress = func(done float64) {
			shown.Do(func() { a.preview(name, path) })
			if inner != nil {
				inner(done)
			}
		}
	}
	r, err := kinds.All.Open(ctx, path, o, progress)
	if err != nil && ctx.Err() == nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return r, err
}

// evidenceFlags adds the flags of commands that open evidence.
func (a *app) evidenceFlags(c *cobra.Command) {
	f := c.Flags()
	f.DurationVar(&a.within, "within", 0, "time within which the question must end (default "+ask.DefaultLimit.String()+")")
	f.BoolVar(&a.unmask, "unmask", false, "evidence of a case: show what is masked, which needs the right and is recorded")
	f.StringArrayVar(&a.binaries, "binary", nil, "core dump: program or library of the process; may be repeated")
	f.StringArrayVar(&a.debug, "debug", nil, "core dump: folder with binaries or separate debug files; may be repeated")
	f.StringArrayVar(&a.source, "source", nil, "core dump, crash text: folder with source text; may be repeated")
	f.StringToStringVar(&a.paths, "source-path", nil, "core dump, crash text: BUILD=HERE, beginning of the build's paths and its replacement")
	f.StringArrayVar(&a.own, "own", nil, "crash text: beginning of the name of own functions or files; may be repeated")
	a.readingFlags(c)
	a.signInFlags(c)
}

// readingFlags adds the flags that say how evidence is read.
func (a *app) readingFlags(c *cobra.Command) {
	c.Flags().StringVar(&a.as, "as", "", "kind of the evidence, if it cannot be recognised: "+strings.Join(kinds.All.Names(), ", "))
	c.Flags().StringToStringVar(&a.fields, "field", nil, "structured log: field that is the time, level, message, trace, thread or caller, as thread=order_id; may be repeated")
	c.Flags().StringVar(&a.zone, "zone", "", "structured log: zone of times without one, as Europe/Paris, CET or +02:00 (default UTC)")
	c.Flags().IntVar(&a.longest, intake.LongestText, 0, fmt.Sprintf("logs and traces: bytes that are kept of a text (default %d)", intake.DefaultLongest))
	c.Flags().StringArrayVar(&a.patterns, "pattern", nil, "structured log: how a line is written, as '{time} {level} [{thread}] {logger}: {message}'; {_} skips; may be repeated")
}

// rules returns how a log is read.
func (a *app) rules() map[string]string {
	rules := map[string]string{}
	maps.Copy(rules, a.fields)
	if a.zone != "" {
		rules["zone"] = a.zone
	}
	if a.longest != 0 {
		rules[intake.LongestText] = strconv.Itoa(a.longest)
	}
	if len(a.patterns) > 0 {
		rules["pattern"] = strings.Join(a.patterns, "\n")
	}
	return rules
}

// placeOf returns the place of a locator.
func place(l locator.Locator) ask.Place {
	return ask.Place{Moment: l.Moment, Thread: l.Thread, Frame: l.Frame}
}

// beside adds other files to a target, for questions over several pieces of evidence. offsets are
// the clock offsets of files.
func (a *app) beside(ctx context.Context, t *target, files []string, offsets map[string]string) error {
	offset := func(name string) (time.Duration, error) {
		if offsets[name] == "" {
			return 0, nil
		}
		d, err := time.ParseDuration(offsets[name])
		if err != nil {
			return 0, usage("for example --offset sluiced.log=-1.5s", "invalid --offset %q: not a duration", offsets[name])
		}
		return d, nil
	}
	var err error
	if t.Local.Offset, err = offset(t.name); err != nil {
		return err
	}
	var list []ask.Other
	for _, f := range files {
		r, err := a.openFile(ctx, f)
		if err != nil {
			return err
		}
		d, err := offset(f)
		if err != nil {
			return err
		}
		list = append(list, ask.Other{Name: f, Recording: r, Offset: d})
	}
	t.Local.Others = func(context.Context) ([]ask.Other, error) { return list, nil }
	return nil
}
