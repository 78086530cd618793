package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"golang.org/x/term"

	"wraithology/client"
	"wraithology/core/locator"
	"wraithology/core/replay"
)

// client returns a client for the service that the person signed in to. The
// variables WRAITH_URL and WRAITH_TOKEN come before the file.
func (a *app) client() (*client.Client, error) {
	v := viper.New()
	v.SetConfigFile(a.config)
	v.SetConfigType("json")
	v.SetEnvPrefix("WRAITH")
	for _, key := range []string{"url", "token"} {
		if err := v.BindEnv(key); err != nil {
			return nil, fmt.Errorf("read the environment: %w", err)
		}
	}
	if err := v.ReadInConfig(); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("read the sign-in in %s: %w", a.config, err)
	}
	if v.GetString("url") == "" || v.GetString("token") == "" {
		return nil, fmt.Errorf("%w to a service", client.ErrNotSignedIn)
	}
	return client.New(v.GetString("url"), v.GetString("token")), nil
}

func (a *app) serviceCommands() []*cobra.Command {
	return []*cobra.Command{a.signIn(), a.caseCommand(), a.evidenceCommand(), a.artifactCommand(), a.checkpointCommand(), a.sittingCommand(), a.sender(), a.move(), a.alike(), a.offset()}
}

func (a *app) signIn() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use: "sign-in URL --name NAME", Short: "Sign in to a service; the password is read from standard input",
		Args: args(1, 1, "URL --name NAME"),
		RunE: func(c *cobra.Command, given []string) error {
			if name == "" {
				return usageError{"no name was given", "use: wraith sign-in " + given[0] + " --name NAME"}
			}
			password, err := a.password()
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			token, err := client.New(given[0], "").SignIn(c.Context(), client.Credentials{Name: name, Password: password}, "command line on "+host)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(a.config), 0o700); err != nil {
				return fmt.Errorf("keep the sign-in: %w", err)
			}
			kept, err := json.Marshal(map[string]string{"url": given[0], "token": token.Secret, "name": name})
			if err != nil {
				return fmt.Errorf("keep the sign-in: %w", err)
			}
			if err := os.WriteFile(a.config, kept, 0o600); err != nil {
				return fmt.Errorf("keep the sign-in: %w", err)
			}
			return a.print(map[string]string{"url": given[0], "name": name}, func(w io.Writer) { fmt.Fprintf(w, "signed in to %s as %s\n", given[0], name) })
		},
	}
	c.Flags().StringVar(&name, "name", "", "who signs in")
	return c
}

func (a *app) password() (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, "password: ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fmt.Errorf("read the password: %w", err)
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// newTable returns a table without frames, for a terminal and for a pipe alike.
func newTable(w io.Writer, head ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault // a column may be an expression
	t.SetStyle(style)
	t.AppendHeader(table.Row(head))
	return t
}

func (a *app) caseCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "case", Short: "List the cases, open one, add people to it", Args: args(0, 0, ""),
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.Cases(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "case", "title", "role", "people", "opened")
				for _, x := range list {
					t.AppendRow(table.Row{x.Name, plain(x.Title), x.Role, len(x.Members), x.Created.Format("2006-01-02 15:04")})
				}
				t.Render()
			})
		},
	}
	var title, role string
	open := &cobra.Command{
		Use: "open CASE", Short: "Open a case, which you then lead", Args: args(1, 1, "CASE --title TITLE"),
		RunE: func(c *cobra.Command, given []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			if title == "" {
				title = given[0]
			}
			x, err := s.NewCase(c.Context(), client.NewCase{Name: given[0], Title: title})
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { fmt.Fprintf(w, "opened case %s: %s\n", x.Name, plain(x.Title)) })
		},
	}
	open.Flags().StringVar(&title, "title", "", "what the case is about")
	add := &cobra.Command{
		Use: "add CASE PERSON", Short: "Add a person to a case, or change the role", Args: args(2, 2, "CASE PERSON --role lead|member|viewer"),
		RunE: func(c *cobra.Command, given []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			m := client.Member{Name: given[1], Role: role}
			if err := s.SetMember(c.Context(), given[0], m); err != nil {
				return err
			}
			return a.print(m, func(w io.Writer) { fmt.Fprintf(w, "%s is now %s of %s\n", m.Name, m.Role, given[0]) })
		},
	}
	add.Flags().StringVar(&role, "role", client.RoleMember, "lead, member or viewer")
	c.AddCommand(open, add)
	return c
}

func (a *app) evidenceCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "evidence CASE", Short: "List a case's evidence, newest first, or upload some", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, given []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.ListEvidence(c.Context(), given[0])
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "evidence", "program", "state", "moments", "bytes", "started", "host", "outcome")
				for _, e := range list {
					state := e.State
					if e.State == client.StateIndexing {
						state = fmt.Sprintf("indexing, %d %%", int(100*e.Progress))
					}
					t.AppendRow(table.Row{given[0] + "/" + e.Name, plain(e.Program), state, e.Moments, e.Bytes, e.Started.Format("2006-01-02 15:04"), plain(e.Host), plain(e.Outcome)})
				}
				t.Render()
			})
		},
	}
	var name string
	add := &cobra.Command{
		Use: "add CASE FILE", Short: "Upload evidence; - reads standard input", Args: args(2, 2, "CASE FILE --name NAME"),
		RunE: func(c *cobra.Command, given []string) error { return a.upload(c.Context(), given[0], given[1], name) },
	}
	add.Flags().StringVar(&name, "name", "", "its name in the case; the file's name without its ending where left off")
	c.AddCommand(add)
	return c
}

func (a *app) upload(ctx context.Context, caseName, path, name string) error {
	s, err := a.client()
	if err != nil {
		return err
	}
	in, size := a.in, int64(-1)
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return usageError{err.Error(), "check the path"}
		}
		defer f.Close()
		if info, err := f.Stat(); err == nil {
			size = info.Size()
		}
		in = f
		if name == "" {
			name = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
		}
	}
	if name == "" {
		return usageError{"what comes from standard input has no name", "give it one with --name"}
	}
	bar := progressbar.NewOptions64(size, progressbar.OptionSetWriter(a.err), progressbar.OptionShowBytes(true), progressbar.OptionSetDescription("upload"),
		progressbar.OptionSetVisibility(a.terminal()), progressbar.OptionClearOnFinish())
	reader := progressbar.NewReader(in, bar)
	if _, err := s.Upload(ctx, caseName, name, &reader, client.Reading{As: a.as, Fields: a.fields}); err != nil {
		return err
	}
	index := progressbar.NewOptions(100, progressbar.OptionSetWriter(a.err), progressbar.OptionSetDescription("index"), progressbar.OptionSetVisibility(a.terminal()), progressbar.OptionClearOnFinish())
	e, err := s.Await(ctx, caseName, name, func(e client.EvidenceInfo) { _ = index.Set(int(100 * e.Progress)) })
	if err != nil {
		return err
	}
	return a.print(e, func(w io.Writer) {
		fmt.Fprintf(w, "%s/%s  %d bytes, %d moments\n  sha256 %s\n  %s\n", caseName, e.Name, e.Bytes, e.Moments, e.SHA256, plain(e.Outcome))
	})
}

func (a *app) terminal() bool {
	f, ok := a.err.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (a *app) checkpointCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "checkpoint CASE", Short: "List a case's checkpoints, set, switch and delete them", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, given []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.Checkpoints(c.Context(), given[0])
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "number", "place", "when", "hits", "enabled", "by", "text")
				for _, x := range list {
					t.AppendRow(table.Row{x.ID, plain(x.Place()), plain(x.When), plain(x.Nth), map[bool]string{true: "yes", false: "no"}[x.Enabled], x.By, plain(x.Text)})
				}
				t.Render()
			})
		},
	}
	var f checkpointFlags
	var evidence string
	var listing bool
	set := &cobra.Command{
		Use: "set CASE --line FILE:N|--enter F|--return F|--error [TEXT]|--output [TEXT]", Short: "Set a checkpoint", Args: args(1, 2, "CASE --line FILE:N [--when EXPRESSION] [--in EVIDENCE]"),
		RunE: func(c *cobra.Command, given []string) error {
			q, err := f.query(given[1:])
			if err != nil {
				return err
			}
			kind, err := q.Kind()
			if err != nil {
				return err
			}
			at := client.At{}
			if kind == replay.OnWrite {
				l, err := locator.Parse(evidence)
				if err != nil || l.Moment < 0 || l.Thread == 0 {
					return usageError{"a checkpoint on writes belongs to one recording", "say where the path is reached, for example --in failing-run@4711#1.0"}
				}
				at, evidence = place(l), l.Evidence
			}
			s, err := a.client()
			if err != nil {
				return err
			}
			x, err := s.SetCheckpoint(c.Context(), given[0], client.NewCheckpoint{Kind: string(kind), File: q.File, Line: q.Line, Function: q.Enter + q.Return, About: strings.TrimPrefix(q.Error+q.Output+q.Write, "*"), Moment: max(at.Moment, 0), Frame: at.Frame,
				When: q.When, Nth: q.Nth, Thread: max(q.OnThread, at.Thread), Listing: listing, Show: q.Show, Evidence: evidence})
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) {
				text := ""
				if x.Text != "" {
					text = "  | " + plain(x.Text)
				}
				fmt.Fprintf(w, "checkpoint %d on %s%s\n", x.ID, plain(x.Place()), text)
			})
		},
	}
	f.add(set)
	set.Flags().StringArrayVar(&f.Show, "show", nil, "show this expression at each hit; may be repeated")
	set.Flags().BoolVar(&listing, "listing", false, "list its hits only; replay does not halt at it")
	set.Flags().StringVar(&evidence, "in", "", "evidence in which the place is looked up, the newest where left off; for --write a locator in it")
	c.AddCommand(set, a.checkpointSwitch("enable", "Enable a checkpoint", true), a.checkpointSwitch("disable", "Disable a checkpoint", false))
	c.AddCommand(&cobra.Command{
		Use: "delete CASE NUMBER", Short: "Delete a checkpoint", Args: args(2, 2, "CASE NUMBER"),
		RunE: func(c *cobra.Command, given []string) error {
			s, id, err := a.numbered(given[1])
			if err != nil {
				return err
			}
			if err := s.DeleteCheckpoint(c.Context(), given[0], id); err != nil {
				return err
			}
			return a.print(map[string]int64{"deleted": id}, func(w io.Writer) { fmt.Fprintf(w, "deleted checkpoint %d\n", id) })
		},
	})
	return c
}

func (a *app) checkpointSwitch(use, short string, enabled bool) *cobra.Command {
	return &cobra.Command{
		Use: use + " CASE NUMBER", Short: short, Args: args(2, 2, "CASE NUMBER"),
		RunE: func(c *cobra.Command, given []string) error {
			s, id, err := a.numbered(given[1])
			if err != nil {
				return err
			}
			x, err := s.ChangeCheckpoint(c.Context(), given[0], id, client.CheckpointChange{Enabled: &enabled})
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { fmt.Fprintf(w, "checkpoint %d is %sd\n", x.ID, use) })
		},
	}
}

func (a *app) numbered(text string) (*client.Client, int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return nil, 0, usageError{fmt.Sprintf("%q is no checkpoint's number", text), "wraith checkpoint CASE lists them"}
	}
	s, err := a.client()
	return s, id, err
}

func (a *app) sittingCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "sitting", Short: "Follow a shared replay, or lead it from here",
		Args: args(0, 0, "follow|lead CASE/NAME"),
		RunE: func(c *cobra.Command, _ []string) error {
			return usageError{"sitting needs one of its commands", "use: wraith sitting follow CASE/NAME, or wraith sitting lead CASE/NAME@MOMENT"}
		},
	}
	var states int
	follow := &cobra.Command{
		Use: "follow CASE/NAME", Short: "Print where the sitting is, each time it moves", Args: args(1, 1, "CASE/NAME"),
		RunE: func(c *cobra.Command, given []string) error {
			s, caseName, l, err := a.shared(given[0])
			if err != nil {
				return err
			}
			return a.follow(c.Context(), s, caseName, l.Evidence, states)
		},
	}
	follow.Flags().IntVar(&states, "states", 0, "end after this many; 0 goes on until interrupted")
	lead := &cobra.Command{
		Use: "lead CASE/NAME@MOMENT", Short: "Take the lead of the sitting and go to a moment", Args: args(1, 1, "CASE/NAME@MOMENT#THREAD.FRAME"),
		RunE: func(c *cobra.Command, given []string) error {
			s, caseName, l, err := a.shared(given[0])
			if err != nil {
				return err
			}
			sitting, err := s.JoinSitting(c.Context(), caseName, l.Evidence, client.ModeLead)
			if err != nil {
				return err
			}
			st, err := s.Evidence(caseName, l.Evidence).Stack(c.Context(), place(l), false)
			if err != nil {
				return err
			}
			sitting, err = s.ChangeSitting(c.Context(), sitting.ID, client.SittingChange{Mode: client.ModeLead, Place: &client.Place{Moment: st.Moment, Thread: st.Threads[0].ID, Frame: l.Frame}})
			if err != nil {
				return err
			}
			return a.print(sitting, func(w io.Writer) { printSitting(w, sitting) })
		},
	}
	c.AddCommand(follow, lead)
	return c
}

// shared splits a locator of evidence in the service.
func (a *app) shared(text string) (*client.Client, string, locator.Locator, error) {
	l, err := locator.Parse(text)
	if err != nil {
		return nil, "", l, err
	}
	caseName, name, ok := strings.Cut(l.Evidence, "/")
	if !ok {
		return nil, "", l, usageError{fmt.Sprintf("%q is not evidence in the service", text), "name it as CASE/NAME; wraith evidence CASE lists them"}
	}
	l.Evidence = name
	s, err := a.client()
	return s, caseName, l, err
}

var errEnough = errors.New("enough")

func (a *app) follow(ctx context.Context, s *client.Client, caseName, name string, states int) error {
	sitting, err := s.JoinSitting(ctx, caseName, name, client.ModeFollow)
	if err != nil {
		return err
	}
	seen := 0
	last := client.Place{Moment: -1}
	err = s.WatchSitting(ctx, sitting.ID, func(x client.Sitting) error {
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

func printSitting(w io.Writer, s client.Sitting) {
	var here []string
	for _, p := range s.Here {
		here = append(here, p.Name+" ("+p.Mode+")")
	}
	l := locator.Locator{Evidence: s.Case + "/" + s.Evidence}
	fmt.Fprintf(w, "%s@%d#%s.%d  here: %s\n", l.Evidence, s.Place.Moment, s.Place.Thread, s.Place.Frame, strings.Join(here, ", "))
}
