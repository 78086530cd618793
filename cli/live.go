package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/fault"
)

// joinSitting is the live view of a sitting in a terminal.
func (a *app) joinSitting() *cobra.Command {
	var mode string
	c := &cobra.Command{
		Use: "join CASE/NAME", Short: "Take part in the sitting from here: a live view of source, stack, values and people",
		Long: `Take part in the sitting from here: a live view of source, stack, values and people. The keys are those of
the console; ? lists them. Where standard input is not a terminal, each line is a key, and the view
is printed each time it changes. The view goes on when the service is started again.`,
		Args: args(1, 1, "CASE/NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			switch mode {
			case "", api.ModeLead, api.ModeFollow, api.ModeRoam:
			default:
				return usage("for example --mode follow", "invalid mode %q: use lead, follow or roam", mode)
			}
			s, caseName, l, err := a.shared(args[0])
			if err != nil {
				return err
			}
			me, err := s.Me(c.Context())
			if err != nil {
				return err
			}
			sitting, err := s.JoinSitting(c.Context(), caseName, l.Evidence, mode)
			if err != nil {
				return err
			}
			ctx, cancel := context.WithCancel(c.Context())
			defer cancel()
			v := &liveView{a: a, c: s, of: s.Evidence(caseName, l.Evidence), me: me.Name, sitting: sitting, place: sitting.Place, out: a.out}
			return v.run(ctx)
		},
	}
	c.Flags().StringVar(&mode, "mode", "", "lead, follow or roam; without it you lead if nobody else does")
	return c
}

// liveView is what one person sees of a sitting in a terminal.
type liveView struct {
	a        *app
	c        *client.Client
	of       *client.Shared
	me       string
	sitting  api.Sitting
	place    api.Place
	said     []api.SittingStep
	lastStep int64
	note     string
	lost     bool
	help     bool
	out      io.Writer
	terminal bool
}

// liveEvent is what happens to a view; one member is set.
type liveEvent struct {
	state *api.Sitting
	step  *api.SittingStep
	lost  error
	key   string
	ended bool // no more keys come
}

const (
	reconnectAfter = time.Second
	mostSaid       = 5
	sourceAround   = 6
)

// run shows the view until the person leaves or the context ends.
func (v *liveView) run(ctx context.Context) error {
	events := make(chan liveEvent)
	restore, err := v.readKeys(ctx, events)
	if err != nil {
		return err
	}
	defer restore()
	go v.watch(ctx, events)
	v.show(ctx)
	for {
		select {
		case <-ctx.Done():
			return nil
		case e := <-events:
			if v.take(ctx, e) {
				return nil
			}
		}
	}
}

// watch receives what happens in the sitting, and connects again when the connection breaks.
func (v *liveView) watch(ctx context.Context, events chan<- liveEvent) {
	send := func(e liveEvent) error {
		select {
		case events <- e:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	var last int64
	id := v.sitting.ID
	for ctx.Err() == nil {
		err := v.c.WatchSteps(ctx, id, last, func(s api.Sitting) error { return send(liveEvent{state: &s}) }, func(s api.SittingStep) error {
			last = s.ID
			return send(liveEvent{step: &s})
		})
		if send(liveEvent{lost: err}) != nil {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(reconnectAfter):
		}
	}
}

// take handles an event. It reports whether the person leaves.
func (v *liveView) take(ctx context.Context, e liveEvent) (leaves bool) {
	switch {
	case e.state != nil:
		before, was := v.sitting, v.place
		if e.state.Version < before.Version { // it was sent before the own move was answered
			e.state.Version, e.state.Place = before.Version, before.Place
		}
		v.sitting = *e.state
		if v.mode() != api.ModeRoam {
			v.place = v.sitting.Place
		}
		if v.lost || who(before) != who(v.sitting) || before.Leader != v.sitting.Leader || before.Away != v.sitting.Away || was != v.place || strings.Join(before.Watches, "\n") != strings.Join(v.sitting.Watches, "\n") {
			v.lost = false
			v.show(ctx)
		}
	case e.step != nil:
		v.lastStep = e.step.ID
		if e.step.Kind == api.StepSay {
			v.said = append(v.said, *e.step)
			v.said = v.said[max(len(v.said)-mostSaid, 0):]
			v.show(ctx)
		}
	case e.lost != nil:
		if !v.lost {
			v.lost = true
			v.note = fmt.Sprintf("connection lost: %s; connecting again", e.lost)
			v.show(ctx)
		}
	case e.ended && v.terminal:
		return true
	case e.key != "":
		return v.press(ctx, e.key)
	}
	return false
}

func (v *liveView) mode() string {
	for _, p := range v.sitting.Here {
		if p.Name == v.me {
			return p.Mode
		}
	}
	return api.ModeFollow
}

// liveKeys are the keys of the view, in the order in which they are listed.
var liveKeys = []struct{ key, does string }{
	{"j", "next line"}, {"k", "previous line"}, {"l", "into"}, {"L", "back into"}, {"h", "out"}, {"H", "back out"}, {"n", "next hit"}, {"p", "previous hit"},
	{"u", "caller"}, {"d", "callee"}, {"g", "go to a moment"}, {"f", "follow"}, {"o", "look around alone"}, {"t", "take the lead"}, {"a", "ask for the lead"}, {"y", "hand the lead to who asks"},
	{":", "say something"}, {"?", "keys"}, {"q", "leave"},
}

// press does what a key, or a text with its key before it, stands for.
func (v *liveView) press(ctx context.Context, key string) (leaves bool) {
	v.note = ""
	var err error
	step := func(way string, back bool) error {
		at, err := client.Ask(ctx, v.of, ask.StepRequest{Place: v.at(), Way: way, Back: back, Count: 1, Stop: true})
		if err != nil {
			return err
		}
		if at.Reason != "line" {
			v.note = at.Reason
		}
		return v.goTo(ctx, api.Place{Moment: at.Moment, Thread: at.Thread})
	}
	hit := func(back bool) error {
		at, err := client.Ask(ctx, v.of, ask.RunRequest{Place: v.at(), Back: back})
		if err != nil {
			return err
		}
		v.note = at.Reason
		return v.goTo(ctx, api.Place{Moment: at.Moment, Thread: at.Thread})
	}
	switch {
	case key == "q":
		return true
	case key == "j":
		err = step("over", false)
	case key == "k":
		err = step("over", true)
	case key == "l":
		err = step("into", false)
	case key == "L":
		err = step("into", true)
	case key == "h":
		err = step("out", false)
	case key == "H":
		err = step("out", true)
	case key == "n":
		err = hit(false)
	case key == "p":
		err = hit(true)
	case key == "u", key == "d" && v.place.Frame > 0:
		to := v.place
		to.Frame++
		if key == "d" {
			to.Frame -= 2
		}
		if _, err = client.Ask(ctx, v.of, ask.ValuesRequest{Place: ask.Place{Moment: to.Moment, Thread: to.Thread, Frame: to.Frame}, Width: 1}); err == nil {
			err = v.goTo(ctx, to)
		}
	case key == "d":
		v.note = "this is the innermost frame"
	case key[0] == 'g':
		err = v.goToMoment(ctx, strings.TrimSpace(key[1:]))
	case key == "f":
		err = v.change(ctx, api.SittingChange{Mode: api.ModeFollow})
		v.place = v.sitting.Place
	case key == "o":
		err = v.change(ctx, api.SittingChange{Mode: api.ModeRoam, Place: &v.place})
	case key == "t":
		err = v.change(ctx, api.SittingChange{Mode: api.ModeLead, Place: &v.place})
	case key == "a":
		yes := true
		if err = v.change(ctx, api.SittingChange{Asks: &yes}); err == nil {
			v.note = "you ask for the lead"
		}
	case key == "y":
		err = v.handOver(ctx)
	case key[0] == ':' && strings.TrimSpace(key[1:]) != "":
		err = v.c.SayInSitting(ctx, v.sitting.ID, strings.TrimSpace(key[1:]))
	case key == "?":
		v.help = !v.help
	default:
		v.note = fmt.Sprintf("unknown key %q; ? lists the keys", key)
	}
	if err != nil {
		v.note = err.Error()
	}
	v.show(ctx)
	return false
}

func (v *liveView) at() ask.Place {
	return ask.Place{Moment: v.place.Moment, Thread: v.place.Thread, Frame: v.place.Frame}
}

func (v *liveView) goToMoment(ctx context.Context, text string) error {
	var m int64
	if _, err := fmt.Sscan(text, &m); err != nil || m < 0 {
		return fault.InvalidRequest.New("for example g4711", "invalid moment %q", text)
	}
	s, err := client.Ask(ctx, v.of, ask.StackRequest{Place: ask.Place{Moment: event.Moment(m)}, Frames: 1})
	if err != nil {
		return err
	}
	return v.goTo(ctx, api.Place{Moment: s.Moment, Thread: s.Threads[0].ID})
}

// goTo goes to a place, with the others if the person leads.
func (v *liveView) goTo(ctx context.Context, p api.Place) error {
	err := v.change(ctx, api.SittingChange{Place: &p, Seen: v.sitting.Version})
	if errors.Is(err, fault.SittingMoved) {
		return fmt.Errorf("%w; the view shows where it is", err)
	}
	if err != nil {
		return err
	}
	v.place = p
	return nil
}

func (v *liveView) change(ctx context.Context, c api.SittingChange) error {
	s, err := v.c.ChangeSitting(ctx, v.sitting.ID, c)
	if err != nil {
		return err
	}
	v.sitting = s
	return nil
}

func (v *liveView) handOver(ctx context.Context) error {
	for _, p := range v.sitting.Here {
		if p.Asks {
			return v.change(ctx, api.SittingChange{HandTo: p.Name})
		}
	}
	return fault.InvalidRequest.New("", "nobody asks for the lead")
}

// show draws the view.
func (v *liveView) show(ctx context.Context) {
	var b strings.Builder
	width, height := 0, 0
	if v.terminal {
		if w, h, err := term.GetSize(int(os.Stdout.Fd())); err == nil {
			width, height = w, h
		}
		b.WriteString("\x1b[H\x1b[2J")
	}
	v.draw(ctx, &b)
	text := b.String()
	if v.terminal {
		text = fitted(text, width, height)
	} else {
		text += "\n"
	}
	_, _ = io.WriteString(v.out, text) // a terminal that has gone ends the keys
}

// fitted cuts a drawing to the size of a terminal, whose lines end with a carriage return in raw mode.
func fitted(text string, width, height int) string {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if height > 1 && len(lines) >= height {
		lines = append(lines[:height-2], "…")
	}
	for i, x := range lines {
		if letters := []rune(x); width > 1 && i > 0 && len(letters) > width {
			lines[i] = string(letters[:width-1]) + "…"
		}
	}
	return strings.Join(lines, "\r\n") + "\r\n"
}

// draw writes what the view shows.
func (v *liveView) draw(ctx context.Context, w io.Writer) {
	printSitting(w, v.sitting)
	lead := ""
	if v.sitting.Leader == "" {
		lead = "; t takes the lead"
	}
	fmt.Fprintf(w, "you %s at @%d#%s.%d%s\n", map[string]string{api.ModeLead: "lead", api.ModeFollow: "follow", api.ModeRoam: "look around alone"}[v.mode()], v.place.Moment, v.place.Thread, v.place.Frame, lead)
	if v.help {
		for _, k := range liveKeys {
			fmt.Fprintf(w, "  %s  %s\n", k.key, k.does)
		}
	}
	v.drawPlace(ctx, w)
	for _, x := range v.sitting.Watches {
		value, err := client.Ask(ctx, v.of, ask.ExpressionRequest{Place: v.at(), Expression: x})
		text := value.Value
		if err != nil {
			text = "<" + err.Error() + ">"
		}
		fmt.Fprintf(w, "watched  %s = %s\n", plain(x), plain(text))
	}
	for _, x := range v.said {
		fmt.Fprintf(w, "%s @%d: %s\n", plain(x.By), x.Place.Moment, plain(x.Text))
	}
	if v.note != "" {
		fmt.Fprintln(w, plain(v.note))
	}
}

// drawPlace writes the source text around the line, the stack and the values at the place.
func (v *liveView) drawPlace(ctx context.Context, w io.Writer) {
	source, err := client.Ask(ctx, v.of, ask.SourceRequest{Place: v.at()})
	if err == nil {
		fmt.Fprintln(w)
		for _, x := range source.Lines {
			if x.Line < source.Line-sourceAround || x.Line > source.Line+sourceAround {
				continue
			}
			mark := " "
			if x.Line == source.Line {
				mark = "▌"
			}
			fmt.Fprintf(w, "%s%5d  %s\n", mark, x.Line, plain(strings.ReplaceAll(x.Text, "\t", "    ")))
		}
	}
	stack, err := client.Ask(ctx, v.of, ask.StackRequest{Place: v.at(), Frames: 8})
	if err != nil {
		fmt.Fprintf(w, "stack: %s\n", plain(err.Error()))
		return
	}
	fmt.Fprintln(w)
	for _, t := range stack.Threads {
		for _, f := range t.Frames {
			mark := " "
			if f.Index == v.place.Frame {
				mark = "▌"
			}
			fmt.Fprintf(w, "%s%3d  %s%s\n", mark, f.Index, plain(f.Function), inFile(f.File, f.Line))
		}
	}
	values, err := client.Ask(ctx, v.of, ask.ValuesRequest{Place: v.at(), Width: 4, Format: v.sitting.Format})
	if err != nil {
		fmt.Fprintf(w, "values: %s\n", plain(err.Error()))
		return
	}
	fmt.Fprintln(w)
	printValues(w, values)
}

// readKeys sends keys as they are pressed, or lines where standard input is not a terminal. restore must be called in the end.
func (v *liveView) readKeys(ctx context.Context, events chan<- liveEvent) (restore func(), err error) {
	send := func(e liveEvent) {
		select {
		case events <- e:
		case <-ctx.Done():
		}
	}
	if f, ok := v.a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) && term.IsTerminal(int(os.Stdout.Fd())) {
		v.terminal = true
		before, err := term.MakeRaw(int(f.Fd()))
		if err != nil {
			return nil, fmt.Errorf("read keys from the terminal: %w", err)
		}
		go v.typeKeys(ctx, f, send)
		return func() { _ = term.Restore(int(f.Fd()), before) }, nil
	}
	go func() {
		lines := bufio.NewScanner(v.a.in)
		for lines.Scan() {
			if key := strings.TrimSpace(lines.Text()); key != "" {
				send(liveEvent{key: key})
			}
		}
		send(liveEvent{ended: true})
	}()
	return func() {}, nil
}

// typeKeys sends the keys of a terminal; a key that begins a text is sent with the text, at the end of the line.
func (v *liveView) typeKeys(ctx context.Context, from io.Reader, send func(liveEvent)) {
	in := bufio.NewReader(from)
	var text []byte
	for ctx.Err() == nil {
		r, _, err := in.ReadRune()
		if err != nil || r == 3 || r == 4 && text == nil { // Ctrl-C and Ctrl-D, which a raw terminal does not handle
			send(liveEvent{key: "q"})
			return
		}
		switch {
		case text == nil && (r == ':' || r == 'g'):
			text = []byte(string(r))
		case text == nil && r >= ' ':
			send(liveEvent{key: string(r)})
		case text == nil:
		case r == '\r' || r == '\n':
			send(liveEvent{key: string(text)})
			text = nil
		case r == 27:
			text = nil
		case r == 127 || r == 8:
			runes := []rune(string(text))
			if text = []byte(string(runes[:len(runes)-1])); len(text) == 0 {
				text = nil
			}
		case r >= ' ':
			text = append(text, string(r)...)
			_, _ = io.WriteString(v.out, string(r))
		}
	}
}
