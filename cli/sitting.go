package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/locator"
)

func (a *app) sittingCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "sitting", Short: "Follow a shared replay, or lead it from here",
		Args: args(0, 0, "join|follow|lead|say|steps CASE/NAME"),
		RunE: func(c *cobra.Command, _ []string) error {
			return usage("use: wraith sitting join CASE/NAME, or wraith sitting lead CASE/NAME@MOMENT", "sitting needs one of its commands")
		},
	}
	var states int
	follow := &cobra.Command{
		Use: "follow CASE/NAME", Short: "Print where the sitting is, each time it moves", Args: args(1, 1, "CASE/NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			s, caseName, l, err := a.shared(args[0])
			if err != nil {
				return err
			}
			return a.follow(c.Context(), s, caseName, l.Evidence, states)
		},
	}
	follow.Flags().IntVar(&states, "states", 0, "end after this many; 0 goes on until interrupted")
	lead := &cobra.Command{
		Use: "lead CASE/NAME@MOMENT", Short: "Take the lead of the sitting and go to a moment", Args: args(1, 1, "CASE/NAME@MOMENT#THREAD.FRAME"),
		RunE: func(c *cobra.Command, args []string) error {
			s, caseName, l, err := a.shared(args[0])
			if err != nil {
				return err
			}
			sitting, err := s.JoinSitting(c.Context(), caseName, l.Evidence, api.ModeLead)
			if err != nil {
				return err
			}
			st, err := client.Ask(c.Context(), s.Evidence(caseName, l.Evidence), ask.StackRequest{Place: place(l)})
			if err != nil {
				return err
			}
			sitting, err = s.ChangeSitting(c.Context(), sitting.ID, api.SittingChange{Mode: api.ModeLead, Place: &api.Place{Moment: st.Moment, Thread: st.Threads[0].ID, Frame: l.Frame}})
			if err != nil {
				return err
			}
			return a.print(sitting, func(w io.Writer) { printSitting(w, sitting) })
		},
	}
	say := &cobra.Command{
		Use: "say CASE/NAME TEXT", Short: "Say something in the sitting; it is kept with the place", Args: args(2, 2, "CASE/NAME TEXT"),
		RunE: func(c *cobra.Command, args []string) error {
			s, sitting, err := a.sittingOf(c.Context(), args[0])
			if err != nil {
				return err
			}
			if err := s.SayInSitting(c.Context(), sitting.ID, args[1]); err != nil {
				return err
			}
			return a.print(api.NewSay{Text: args[1]}, func(io.Writer) {})
		},
	}
	var after int64
	var count int
	steps := &cobra.Command{
		Use: "steps CASE/NAME", Short: "List who went where and said what in the sitting, oldest first", Args: args(1, 1, "CASE/NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if count < 1 || count > mostListed {
				return usage("for example --count 200", "--count must be 1 to %d", mostListed)
			}
			s, sitting, err := a.sittingOf(c.Context(), args[0])
			if err != nil {
				return err
			}
			list, err := s.SittingSteps(c.Context(), sitting.ID, after, count)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) { printSteps(w, sitting, list, count) })
		},
	}
	steps.Flags().Int64Var(&after, "after", 0, "list what came after the step with this number")
	steps.Flags().IntVar(&count, "count", 200, "number of steps")
	c.AddCommand(a.joinSitting(), follow, lead, say, steps)
	return c
}

// mostListed is the limit of the service for one list.
const mostListed = 1000

// sittingOf finds the sitting of evidence.
func (a *app) sittingOf(ctx context.Context, name string) (*client.Client, api.Sitting, error) {
	s, caseName, l, err := a.shared(name)
	if err != nil {
		return nil, api.Sitting{}, err
	}
	sitting, err := s.SittingOf(ctx, caseName, l.Evidence)
	return s, sitting, err
}

// stepText says what a step did.
func stepText(x api.SittingStep) string {
	switch x.Kind {
	case api.StepMove:
		return "went there"
	case api.StepJoin:
		return "joined"
	case api.StepWatch:
		return "watches " + x.Text
	case api.StepTable:
		return "shares the columns " + x.Text
	case api.StepWrite:
		return "writes whole numbers as " + x.Text
	case api.StepSay:
		return "said: " + x.Text
	}
	return x.Text
}

func printSteps(w io.Writer, s api.Sitting, list []api.SittingStep, count int) {
	for _, x := range list {
		fmt.Fprintf(w, "%6d  %s  %-12s @%d#%s.%d  %s\n", x.ID, x.At.Local().Format("2006-01-02 15:04:05"), plain(x.By), x.Place.Moment, x.Place.Thread, x.Place.Frame, plain(stepText(x)))
	}
	switch {
	case len(list) == 0:
		fmt.Fprintln(w, "nothing has happened in this sitting")
	case len(list) == count:
		fmt.Fprintf(w, "more: wraith sitting steps %s/%s --after %d\n", plain(s.Case), plain(s.Evidence), list[len(list)-1].ID)
	}
}

// shared parses a locator of evidence in the service.
func (a *app) shared(text string) (*client.Client, string, locator.Locator, error) {
	l, err := locator.Parse(text)
	if err != nil {
		return nil, "", l, err
	}
	caseName, name, ok := strings.Cut(l.Evidence, "/")
	if !ok || caseName == "" || strings.Contains(name, "/") {
		return nil, "", l, usage("name it as CASE/NAME; wraith evidence CASE lists them", "%q is not evidence in the service", text)
	}
	l.Evidence = name
	s, err := a.client()
	return s, caseName, l, err
}

var errEnough = errors.New("enough")

func (a *app) follow(ctx context.Context, s *client.Client, caseName, name string, states int) error {
	sitting, err := s.JoinSitting(ctx, caseName, name, api.ModeFollow)
	if err != nil {
		return err
	}
	seen := 0
	last := api.Place{Moment: -1}
	err = s.WatchSitting(ctx, sitting.ID, func(x api.Sitting) error {
		if x.Place == last {
			return nil
		}
		last = x.Place
		if err := a.print(x, func(w io.Writer) { printSitting(w, x) }); err != nil {
			return err
		}
		if seen++; seen == states {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) || errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// who lists the people in a sitting, with what each does.
func who(s api.Sitting) string {
	var here []string
	for _, p := range s.Here {
		what := p.Mode
		if p.Mode == api.ModeRoam {
			what = fmt.Sprintf("looks at @%d", p.Place.Moment)
		}
		if p.Pointing != nil {
			what += ", points at " + p.Pointing.Kind + " " + p.Pointing.At
		}
		if p.Asks {
			what += ", asks for the lead"
		}
		here = append(here, p.Name+" ("+what+")")
	}
	return strings.Join(here, ", ")
}

func printSitting(w io.Writer, s api.Sitting) {
	l := locator.Locator{Evidence: s.Case + "/" + s.Evidence}
	lead := ""
	switch {
	case s.Leader == "":
		lead = "  nobody leads"
	case s.Away:
		lead = "  " + s.Leader + " leads, and is away"
	}
	fmt.Fprintf(w, "%s@%d#%s.%d  here: %s%s\n", plain(l.Evidence), s.Place.Moment, s.Place.Thread, s.Place.Frame, plain(who(s)), plain(lead))
}
