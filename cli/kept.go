package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/locator"
)

// kept are the commands for what people keep on a case.
func (a *app) kept() []*cobra.Command {
	return []*cobra.Command{a.keepCommand(), a.exhibitCommand(), a.commentCommand(), a.theoryCommand(), a.handOverCommand(), a.activityCommand(), a.mentionsCommand(), a.noticesCommand(), a.webhookCommand(), a.reportCommand()}
}

// number parses the number of something that is kept.
func number(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, usage("the lists show the numbers", "invalid number %q of %s", text, what)
	}
	return n, nil
}

// ofCase makes a command on a case: f is called with the client and the arguments.
func (a *app) ofCase(use, short string, n int, f func(ctx context.Context, s *client.Client, args []string) error) *cobra.Command {
	_, form, _ := strings.Cut(use, " ")
	return &cobra.Command{Use: use, Short: short, Args: args(n, n, form), RunE: func(c *cobra.Command, args []string) error {
		s, err := a.client()
		if err != nil {
			return err
		}
		return f(c.Context(), s, args)
	}}
}

func (a *app) keepCommand() *cobra.Command {
	var note string
	var with []string
	c := &cobra.Command{
		Use: "keep CASE/NAME@MOMENT QUESTION [ARGUMENT…]", Short: "Keep the answer to a question on the case as an exhibit, as it is now",
		Long: `Keep the answer to a question on the case as an exhibit, as it is now. QUESTION is a command such as values, stack,
ask, origin or ledger, with its arguments; --with NAME=VALUE sets other parts of its request, named as in the API:

  wraith keep shallow-berth/failing-run@639661 origin clearance --note 'where the height came from'
  wraith keep shallow-berth/failing-run@639661 values --with levels=2`,
		Args: args(2, 20, "CASE/NAME@MOMENT QUESTION [ARGUMENT…]"),
		RunE: func(c *cobra.Command, args []string) error {
			s, caseName, l, err := a.shared(args[0])
			if err != nil {
				return err
			}
			request, err := keptRequest(args[1], l, args[2:], with)
			if err != nil {
				return err
			}
			x, err := s.Keep(c.Context(), caseName, api.NewExhibit{Evidence: l.Evidence, Question: args[1], Request: request, Note: note})
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { printExhibit(w, caseName, x) })
		},
	}
	c.Flags().StringVar(&note, "note", "", "what it shows")
	c.Flags().StringArrayVar(&with, "with", nil, "another part of the request, as NAME=VALUE; can be repeated")
	return c
}

// keptRequest makes the request of a question from a place, arguments and other parts.
func keptRequest(question string, l locator.Locator, rest, with []string) (json.RawMessage, error) {
	q, ok := ask.Named(question)
	if !ok {
		return nil, usage("for example values, stack, ask, origin, ledger or trace", "unknown question %q", question)
	}
	request := q.New()
	v := reflect.ValueOf(request).Elem()
	fields := ask.Fields(q.Request)
	rest, err := takeArguments(v, fields, rest)
	if err != nil {
		return nil, err
	}
	if len(rest) > 0 {
		return nil, usage("give it with --with NAME=VALUE", "%s takes no argument %q", question, rest[0])
	}
	byName := map[string][]string{}
	for _, x := range with {
		name, value, ok := strings.Cut(x, "=")
		if !ok || !slices.ContainsFunc(fields, func(f ask.Field) bool { return f.Name == name }) {
			return nil, usage("write it as NAME=VALUE, as levels=2", "%s has no part %q", question, x)
		}
		byName[name] = append(byName[name], value)
	}
	for _, f := range fields {
		if list := byName[f.Name]; list != nil {
			if err := ask.SetField(v, f, list); err != nil {
				return nil, usage("", "invalid %s: %w", f.Name, err)
			}
		}
	}
	setPlace(v, l)
	if err := ask.Validate(v.Interface(), ask.Field.Parameter); err != nil {
		return nil, err
	}
	text, err := json.Marshal(v.Interface())
	if err != nil {
		return nil, fmt.Errorf("write the request: %w", err)
	}
	return text, nil
}

func placeText(evidence string, p api.Place) string {
	return fmt.Sprintf("%s@%d#%s.%d", evidence, p.Moment, p.Thread, p.Frame)
}

func printExhibit(w io.Writer, caseName string, x api.Exhibit) {
	fmt.Fprintf(w, "exhibit %d: %s of %s, kept by %s on %s\n", x.ID, plain(x.Question), plain(placeText(caseName+"/"+x.Evidence, x.Place)), plain(x.By), x.Created.Local().Format("2006-01-02 15:04"))
	if x.Note != "" {
		fmt.Fprintf(w, "%s\n", plain(x.Note))
	}
	for _, line := range strings.Split(strings.TrimSuffix(x.Markdown, "\n"), "\n") {
		if !strings.HasPrefix(line, "```") {
			fmt.Fprintf(w, "  %s\n", plain(line))
		}
	}
}

func (a *app) exhibitCommand() *cobra.Command {
	list := a.ofCase("exhibit CASE", "List a case's exhibits, show one, change its note, or delete it", 1, func(ctx context.Context, s *client.Client, args []string) error {
		list, err := allOf(func(after int64) ([]api.Exhibit, error) { return s.Exhibits(ctx, args[0], after, mostListed) }, func(x api.Exhibit) int64 { return x.ID })
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			t := newTable(w, "number", "what", "where", "note", "by", "kept")
			for _, x := range list {
				t.AppendRow(table.Row{x.ID, plain(x.Question), plain(placeText(x.Evidence, x.Place)), plain(shorten(x.Note, 60)), plain(x.By), x.Created.Local().Format("2006-01-02 15:04")})
			}
			t.Render()
		})
	})
	list.AddCommand(a.ofCase("show CASE NUMBER", "Show an exhibit", 2, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "an exhibit")
		if err != nil {
			return err
		}
		x, err := s.Exhibit(ctx, args[0], id)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { printExhibit(w, args[0], x) })
	}), a.ofCase("note CASE NUMBER TEXT", "Change the note of an exhibit", 3, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "an exhibit")
		if err != nil {
			return err
		}
		x, err := s.NoteExhibit(ctx, args[0], id, args[2])
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { printExhibit(w, args[0], x) })
	}), a.deletes("exhibit", (*client.Client).DeleteExhibit))
	return list
}

// deletes makes the command that deletes something that is kept.
func (a *app) deletes(what string, remove func(*client.Client, context.Context, string, int64) error) *cobra.Command {
	return a.ofCase("delete CASE NUMBER", "Delete the "+what, 2, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], what)
		if err != nil {
			return err
		}
		if err := remove(s, ctx, args[0], id); err != nil {
			return err
		}
		return a.print(map[string]int64{"deleted": id}, func(w io.Writer) { fmt.Fprintf(w, "deleted %s %d\n", what, id) })
	})
}

// allOf reads a list page by page.
func allOf[T any](page func(after int64) ([]T, error), id func(T) int64) ([]T, error) {
	all := []T{}
	for after := int64(0); ; after = id(all[len(all)-1]) {
		list, err := page(after)
		if err != nil {
			return nil, err
		}
		if all = append(all, list...); len(list) < mostListed {
			return all, nil
		}
	}
}

func printComment(w io.Writer, x api.Comment) {
	about := ""
	at := x.Anchor
	switch {
	case at.Exhibit != 0:
		about = fmt.Sprintf(" on exhibit %d", at.Exhibit)
	case at.Moment != nil:
		about = " on " + placeText(at.Evidence, api.Place{Moment: *at.Moment, Thread: at.Thread, Frame: at.Frame})
		if at.Until != nil {
			about += fmt.Sprintf(" to %d", *at.Until)
		}
	case at.Evidence != "":
		about = " on " + at.Evidence
	}
	if at.Path != "" {
		about += " " + at.Path
	}
	if at.File != "" {
		about += fmt.Sprintf(" %s:%d", at.File, at.Line)
	}
	if x.Parent != 0 {
		about += fmt.Sprintf(", in answer to %d", x.Parent)
	}
	changed := ""
	if x.Edited != nil {
		changed = ", changed " + x.Edited.Local().Format("2006-01-02 15:04")
	}
	fmt.Fprintf(w, "%d  %s, %s%s%s\n", x.ID, plain(x.By), x.Created.Local().Format("2006-01-02 15:04"), plain(about), changed)
	if x.Deleted != nil {
		fmt.Fprintf(w, "    (deleted %s)\n", x.Deleted.Local().Format("2006-01-02 15:04"))
		return
	}
	for _, line := range strings.Split(strings.TrimSuffix(x.Text, "\n"), "\n") {
		fmt.Fprintf(w, "    %s\n", plain(line))
	}
}

func (a *app) commentCommand() *cobra.Command {
	var text, of string
	list := a.ofCase("comment CASE", "List a case's comments, or say something", 1, func(ctx context.Context, s *client.Client, args []string) error {
		list, err := allOf(func(after int64) ([]api.Comment, error) {
			return s.Comments(ctx, args[0], url.Values{"after": {strconv.FormatInt(after, 10)}, "count": {strconv.Itoa(mostListed)}, "text": {text}, "evidence": {of}})
		}, func(x api.Comment) int64 { return x.ID })
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			for _, x := range list {
				printComment(w, x)
			}
		})
	})
	list.Flags().StringVar(&text, "text", "", "with all these words")
	list.Flags().StringVar(&of, "evidence", "", "about this evidence")
	var n api.NewComment
	until := int64(-1)
	var line string
	add := &cobra.Command{
		Use: "add CASE|CASE/NAME[@MOMENT#THREAD.FRAME] TEXT", Short: "Say something about a case, evidence, or a place in it; @Name mentions a member", Args: args(2, 2, "CASE|CASE/NAME[@MOMENT] TEXT"),
		RunE: func(c *cobra.Command, args []string) error {
			caseName, err := anchorOf(args[0], until, line, &n.Anchor)
			if err != nil {
				return err
			}
			s, err := a.client()
			if err != nil {
				return err
			}
			n.Text = args[1]
			x, err := s.Say(c.Context(), caseName, n)
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { printComment(w, x) })
		},
	}
	add.Flags().Int64Var(&n.Parent, "answer", 0, "number of the comment that this answers")
	add.Flags().Int64Var(&n.Anchor.Exhibit, "exhibit", 0, "number of the exhibit that it is about")
	add.Flags().StringVar(&n.Anchor.Path, "path", "", "value that it is about")
	add.Flags().StringVar(&line, "line", "", "line of source text that it is about, as FILE:N")
	add.Flags().Int64Var(&until, "until", -1, "last moment of the span that it is about")
	edit := a.ofCase("edit CASE NUMBER TEXT", "Change the text of your own comment", 3, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "a comment")
		if err != nil {
			return err
		}
		x, err := s.EditComment(ctx, args[0], id, args[2])
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { printComment(w, x) })
	})
	versions := a.ofCase("versions CASE NUMBER", "Show what a comment said before", 2, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "a comment")
		if err != nil {
			return err
		}
		list, err := s.CommentVersions(ctx, args[0], id)
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			for _, x := range list {
				fmt.Fprintf(w, "until %s: %s\n", x.At.Local().Format("2006-01-02 15:04"), plain(x.Text))
			}
		})
	})
	list.AddCommand(add, edit, versions, a.deletes("comment", (*client.Client).DeleteComment))
	return list
}

// anchorOf reads what a comment is about.
func anchorOf(text string, until int64, line string, to *api.Anchor) (caseName string, err error) {
	caseName, _, isEvidence := strings.Cut(text, "/")
	if isEvidence {
		l, err := locator.Parse(text)
		if err != nil {
			return "", err
		}
		caseName, to.Evidence, _ = strings.Cut(l.Evidence, "/")
		to.Thread, to.Frame = l.Thread, l.Frame
		if l.Moment != event.NoMoment {
			to.Moment = &l.Moment
		}
	}
	if until >= 0 {
		m := event.Moment(until)
		to.Until = &m
	}
	if line != "" {
		file, n, ok := strings.Cut(line, ":")
		if to.Line, err = strconv.Atoi(n); !ok || err != nil || to.Line < 1 {
			return "", usage("for example --line berth/berth.go:65", "invalid line %q", line)
		}
		to.File = file
	}
	return caseName, nil
}

func printTheory(w io.Writer, x api.Theory) {
	fmt.Fprintf(w, "%d  %-9s  %s\n", x.ID, plain(x.State), plain(x.Text))
	if x.Note != "" {
		fmt.Fprintf(w, "    %s\n", plain(x.Note))
	}
	for _, side := range []struct {
		word string
		ids  []int64
	}{{"for it", x.For}, {"against it", x.Against}} {
		if len(side.ids) > 0 {
			fmt.Fprintf(w, "    %s: exhibit %s\n", side.word, strings.Trim(strings.ReplaceAll(fmt.Sprint(side.ids), " ", ", "), "[]"))
		}
	}
}

func (a *app) theoryCommand() *cobra.Command {
	list := a.ofCase("theory CASE", "List a case's theories, add one, say what speaks for it, and how it stands", 1, func(ctx context.Context, s *client.Client, args []string) error {
		list, err := s.Theories(ctx, args[0])
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			for _, x := range list {
				printTheory(w, x)
			}
		})
	})
	var note string
	add := a.ofCase("add CASE TEXT", "Add a theory", 2, func(ctx context.Context, s *client.Client, args []string) error {
		x, err := s.Suspect(ctx, args[0], api.NewTheory{Text: args[1], Note: note})
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { printTheory(w, x) })
	})
	add.Flags().StringVar(&note, "note", "", "more about it")
	var text, state, newNote string
	var set *cobra.Command
	set = a.ofCase("set CASE NUMBER", "Change a theory: its state, text or note", 2, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "a theory")
		if err != nil {
			return err
		}
		var n api.TheoryChange
		for _, f := range []struct {
			name  string
			value *string
			to    **string
		}{{"state", &state, &n.State}, {"text", &text, &n.Text}, {"note", &newNote, &n.Note}} {
			if set.Flags().Changed(f.name) {
				*f.to = f.value
			}
		}
		if n == (api.TheoryChange{}) {
			return usage("for example --state refuted", "nothing to change: give --state, --text or --note")
		}
		x, err := s.ChangeTheory(ctx, args[0], id, n)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { printTheory(w, x) })
	})
	set.Flags().StringVar(&state, "state", "", "open, supported or refuted")
	set.Flags().StringVar(&text, "text", "", "what is suspected")
	set.Flags().StringVar(&newNote, "note", "", "more about it")
	var supports, against, none bool
	argue := a.ofCase("argue CASE NUMBER EXHIBIT", "Say that an exhibit speaks for a theory, or against it", 3, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "a theory")
		if err != nil {
			return err
		}
		exhibit, err := number(args[2], "an exhibit")
		if err != nil {
			return err
		}
		if btoi(supports)+btoi(against)+btoi(none) != 1 {
			return usage("for example --for", "give one of --for, --against and --neither")
		}
		if none {
			if err := s.Unargue(ctx, args[0], id, exhibit); err != nil {
				return err
			}
			return a.print(map[string]int64{"theory": id, "exhibit": exhibit}, func(w io.Writer) {
				fmt.Fprintf(w, "exhibit %d speaks neither for nor against theory %d\n", exhibit, id)
			})
		}
		x, err := s.Argue(ctx, args[0], id, exhibit, supports)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { printTheory(w, x) })
	})
	argue.Flags().BoolVar(&supports, "for", false, "it speaks for the theory")
	argue.Flags().BoolVar(&against, "against", false, "it speaks against the theory")
	argue.Flags().BoolVar(&none, "neither", false, "it does neither")
	list.AddCommand(add, set, argue, a.deletes("theory", (*client.Client).DeleteTheory))
	return list
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (a *app) handOverCommand() *cobra.Command {
	c := a.ofCase("handover CASE", "Write a note for the next shift: known, suspected, ruled out, next; or send it", 1, func(ctx context.Context, s *client.Client, args []string) error {
		x, err := s.HandOver(ctx, args[0])
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { fmt.Fprint(w, plainLines(x.Text)) })
	})
	c.AddCommand(a.sendHandOver())
	return c
}

// plainLines removes control characters from a text of several lines.
func plainLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = plain(lines[i])
	}
	return strings.Join(lines, "\n")
}

func (a *app) activityCommand() *cobra.Command {
	var stay, live bool
	c := a.ofCase("activity CASE", "List what others did in the case since you looked last", 1, func(ctx context.Context, s *client.Client, args []string) error {
		x, err := s.Activity(ctx, args[0])
		if err != nil {
			return err
		}
		line := func(w io.Writer, e api.ActivityEntry) {
			fmt.Fprintf(w, "%s  %s %s\n", e.At.Local().Format("2006-01-02 15:04:05"), plain(e.By), plain(e.What))
		}
		err = a.print(x, func(w io.Writer) {
			for _, e := range x.Entries {
				line(w, e)
			}
			switch {
			case x.More:
				fmt.Fprintln(w, "there is more: ask again")
			case len(x.Entries) == 0:
				fmt.Fprintln(w, "nobody else did anything since")
			}
		})
		if err != nil {
			return err
		}
		if !stay {
			if err := s.SeeActivity(ctx, args[0], x.Upto); err != nil {
				return err
			}
		}
		if !live {
			return nil
		}
		err = s.WatchCase(ctx, args[0], 0, func(e api.ActivityEntry) error {
			return a.print(e, func(w io.Writer) { line(w, e) })
		})
		if ctx.Err() != nil {
			return nil
		}
		return err
	})
	c.Flags().BoolVar(&stay, "keep", false, "list it again the next time")
	c.Flags().BoolVar(&live, "live", false, "go on, and show what everybody does")
	return c
}

func (a *app) mentionsCommand() *cobra.Command {
	var stay bool
	c := &cobra.Command{
		Use: "mentions", Short: "List the comments that mention you and that you have not seen", Args: args(0, 0, ""),
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.Mentions(c.Context())
			if err != nil {
				return err
			}
			err = a.print(list, func(w io.Writer) {
				for _, x := range list {
					fmt.Fprintf(w, "%s ", plain(x.Case))
					printComment(w, x.Comment)
				}
			})
			if err != nil || stay || len(list) == 0 {
				return err
			}
			return s.SeeMentions(c.Context(), list[0].ID)
		},
	}
	c.Flags().BoolVar(&stay, "keep", false, "list them again the next time")
	return c
}

func (a *app) reportCommand() *cobra.Command {
	var out, format string
	c := a.ofCase("report CASE", "Write a report of the case, for people who were not there", 1, func(ctx context.Context, s *client.Client, args []string) error {
		if format == "" {
			format = map[string]string{".html": "html", ".pdf": "pdf"}[strings.ToLower(out[max(strings.LastIndexByte(out, '.'), 0):])]
			if format == "" {
				format = "markdown"
			}
		}
		if out == "" || out == "-" {
			return s.Report(ctx, args[0], format, a.out)
		}
		return a.toFile(out, func(w io.Writer) error { return s.Report(ctx, args[0], format, w) })
	})
	c.Flags().StringVarP(&out, "output", "o", "", "file to write; without it standard output")
	c.Flags().StringVar(&format, "format", "", "markdown, html or pdf (default by the file's ending, else markdown)")
	return c
}
