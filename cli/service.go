package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/locator"
	"wraithology/core/replay/find"
)

// signedIn is the content of the sign-in file.
type signedIn struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	Name  string `json:"name"`
}

// client returns a client for the service that the person signed in to. The environment variables
// WRAITH_URL and WRAITH_TOKEN have priority over the file.
func (a *app) client() (*client.Client, error) {
	var x signedIn
	text, err := os.ReadFile(a.config)
	if err == nil {
		err = json.Unmarshal(text, &x)
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("read the sign-in in %s: %w: %w", a.config, fault.NotSignedIn, err)
	}
	url, token := cmp.Or(os.Getenv("WRAITH_URL"), x.URL), cmp.Or(os.Getenv("WRAITH_TOKEN"), x.Token)
	if url == "" || token == "" {
		return nil, fmt.Errorf("%w to a service", fault.NotSignedIn)
	}
	return client.New(url, token), nil
}

// serviceFlags adds the flags of commands of the service.
func (a *app) serviceFlags(c *cobra.Command) {
	a.signInFlags(c)
	a.outputFlags(c)
}

func (a *app) serviceCommands() []*cobra.Command {
	list := []*cobra.Command{a.signIn(), a.accountCommand(), a.caseCommand(), a.teamCommand(), a.join(), a.evidenceCommand(), a.artifactCommand(), a.checkpointCommand(), a.expect(), a.sittingCommand(), a.sender(), a.move(), a.alike(), a.offset()}
	list = append(list, a.kept()...)
	for _, c := range list {
		for _, x := range append(c.Commands(), c) {
			if x.Flags().Lookup("config") == nil {
				a.serviceFlags(x)
			}
		}
	}
	return list
}

func (a *app) signIn() *cobra.Command {
	var name string
	var byToken bool
	c := &cobra.Command{
		Use: "sign-in URL --name NAME|--token", Short: "Sign in to a service; the password, or a token that was made on its page Your account, is read from standard input",
		Args: args(1, 1, "URL --name NAME, or URL --token"),
		RunE: func(c *cobra.Command, args []string) error {
			if name == "" && !byToken {
				return usage("use: wraith sign-in "+args[0]+" --name NAME, or --token", "no name was given")
			}
			secret, err := a.password()
			if err != nil {
				return err
			}
			is := signedIn{}
			if byToken {
				is, err = a.signInBy(c.Context(), args[0], strings.TrimSpace(secret))
			} else {
				is, err = a.signInAs(c.Context(), args[0], api.Credentials{Name: name, Password: secret})
			}
			if err != nil {
				return err
			}
			return a.print(map[string]string{"url": is.URL, "name": is.Name}, func(w io.Writer) { fmt.Fprintf(w, "signed in to %s as %s\n", is.URL, is.Name) })
		},
	}
	c.Flags().StringVar(&name, "name", "", "who signs in")
	c.Flags().BoolVar(&byToken, "token", false, "sign in by a token")
	return c
}

// signInBy keeps a token.
func (a *app) signInBy(ctx context.Context, url, token string) (signedIn, error) {
	me, err := client.New(url, token).Me(ctx)
	is := signedIn{URL: url, Token: token, Name: me.Name}
	if err != nil {
		return is, err
	}
	return is, a.keepSignIn(is)
}

// signInAs makes a token for this command line and keeps it.
func (a *app) signInAs(ctx context.Context, url string, who api.Credentials) (signedIn, error) {
	host, err := os.Hostname()
	if err != nil {
		host = "an unknown host"
	}
	token, err := client.New(url, "").SignIn(ctx, who, "command line on "+host)
	is := signedIn{URL: url, Token: token.Secret, Name: who.Name}
	if err != nil {
		return is, err
	}
	return is, a.keepSignIn(is)
}

func (a *app) keepSignIn(is signedIn) error {
	kept, err := json.Marshal(is)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(a.config), 0o700)
	}
	if err == nil {
		err = os.WriteFile(a.config, kept, 0o600)
	}
	if err != nil {
		return fmt.Errorf("save the sign-in: %w", err)
	}
	return nil
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

// newTable returns a table without borders, for terminals and pipes.
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
	find := map[string]*string{"after": new(string), "text": new(string), "program": new(string), "person": new(string), "failure": new(string), "state": new(string)}
	c := &cobra.Command{
		Use: "case", Short: "List the cases, find some, open one, add people to it", Args: args(0, 0, ""),
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			query := url.Values{}
			for name, value := range find {
				if *value != "" {
					query.Set(name, *value)
				}
			}
			list, err := s.FindCases(c.Context(), query)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "case", "title", "role", "people", "opened", "closed with the cause")
				for _, x := range list {
					cause := ""
					if x.Closed != nil {
						cause = plain(shorten(x.Cause, 60))
					}
					t.AppendRow(table.Row{x.Name, plain(x.Title), x.Role, names(x.Members), x.Created.Format("2006-01-02 15:04"), cause})
				}
				t.Render()
				more(w, list, api.CasesOfPage, func(x api.Case) string { return x.Name })
			})
		},
	}
	for name, doc := range map[string]string{"after": "only cases after this one of the list", "text": "with this text in the name, title, cause, evidence, theories or comments", "program": "with evidence of this program",
		"person": "with this member", "failure": "with evidence that ended with this text", "state": "open or closed"} {
		c.Flags().StringVar(find[name], name, "", doc)
	}
	var title string
	open := &cobra.Command{
		Use: "open CASE", Short: "Open a case, which you then lead", Args: args(1, 1, "CASE --title TITLE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			if title == "" {
				title = args[0]
			}
			x, err := s.NewCase(c.Context(), api.NewCase{Name: args[0], Title: title})
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { fmt.Fprintf(w, "opened case %s: %s\n", x.Name, plain(x.Title)) })
		},
	}
	open.Flags().StringVar(&title, "title", "", "what the case is about")
	var cause string
	end := &cobra.Command{
		Use: "close CASE --cause TEXT", Short: "Close a case with its cause", Args: args(1, 1, "CASE --cause TEXT"),
		RunE: func(c *cobra.Command, args []string) error {
			if cause == "" {
				return usage("for example --cause 'a notice was taken twice'", "--cause is missing")
			}
			return a.switchCase(args[0], "closed", func(s *client.Client) (api.Case, error) { return s.CloseCase(c.Context(), args[0], cause) })
		},
	}
	end.Flags().StringVar(&cause, "cause", "", "what caused the failure, and what cured it")
	reopen := &cobra.Command{
		Use: "reopen CASE", Short: "Open a closed case again", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.switchCase(args[0], "open again", func(s *client.Client) (api.Case, error) { return s.ReopenCase(c.Context(), args[0]) })
		},
	}
	c.AddCommand(a.deletedCases()...)
	c.AddCommand(a.groupCommands("case", (*client.Client).InCase)...)
	c.AddCommand(open, a.caseTeams(), a.caseCustody(), a.verifyCustody(), a.maskCommand(), end, reopen, a.caseChecks(), a.exportCommand(), a.importCommand())
	return c
}

// names names the members of a case in a list, which may be some of them only.
func names(list []api.Member) string {
	var out []string
	for _, m := range list {
		out = append(out, m.Name)
	}
	if len(list) >= api.MembersOfListed {
		out = append(out, "…")
	}
	return strings.Join(out, ", ")
}

func (a *app) exportCommand() *cobra.Command {
	var out string
	var masked bool
	c := a.ofCase("export CASE", "Write the whole case into one file: evidence, records, exhibits, and who did what", 1, func(ctx context.Context, s *client.Client, args []string) error {
		write := s.Export
		if masked {
			write = s.ExportMasked
		}
		return a.toFile(cmp.Or(out, args[0]+".case.zip"), func(w io.Writer) error { return write(ctx, args[0], w) })
	})
	c.Flags().BoolVar(&masked, "masked", false, "leave out the bytes of evidence and artifacts, which are not masked")
	c.Flags().StringVarP(&out, "output", "o", "", "file to write (default CASE.case.zip)")
	return c
}

func (a *app) importCommand() *cobra.Command {
	var as string
	c := a.ofCase("import FILE", "Make a case of a file that export has written, which you then lead; - reads standard input", 1, func(ctx context.Context, s *client.Client, args []string) error {
		in := io.Reader(os.Stdin)
		if args[0] != "-" {
			f, err := os.Open(args[0])
			if err != nil {
				return usage("check the path", "%w", err)
			}
			defer f.Close()
			in = f
		}
		x, err := s.Import(ctx, in, as)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) {
			fmt.Fprintf(w, "imported case %s: %s\n  its evidence is being indexed: wraith evidence %s\n", x.Name, plain(cmp.Or(x.Title, x.Name)), x.Name)
		})
	})
	c.Flags().StringVar(&as, "as", "", "another name for the case")
	return c
}

// toFile writes a file, which is there as a whole or as it was before.
func (a *app) toFile(name string, write func(io.Writer) error) (err error) {
	f, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+".part-")
	if err != nil {
		return usage("check the path", "%w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	if err := write(f); err != nil {
		return err
	}
	for _, done := range []func() error{func() error { return f.Chmod(0o644) }, f.Sync, f.Close, func() error { return os.Rename(f.Name(), name) }} {
		if err := done(); err != nil {
			return fmt.Errorf("write %s: %w", name, err)
		}
	}
	return a.print(map[string]string{"file": name}, func(w io.Writer) { fmt.Fprintf(w, "wrote %s\n", name) })
}

// switchCase closes or reopens a case.
func (a *app) switchCase(name, state string, change func(*client.Client) (api.Case, error)) error {
	s, err := a.client()
	if err != nil {
		return err
	}
	x, err := change(s)
	if err != nil {
		return err
	}
	return a.print(x, func(w io.Writer) { fmt.Fprintf(w, "case %s is %s\n", name, state) })
}

// caseChecks shows the expectations of a case beside its evidence.
func (a *app) caseChecks() *cobra.Command {
	return &cobra.Command{
		Use: "checks CASE", Short: "Show what each piece of evidence answers to the case's expectations", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			x, err := s.Checks(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { printCaseChecks(w, x) })
		},
	}
}

func printCaseChecks(w io.Writer, x api.Checks) {
	head := []any{"at", "should be"}
	all := append(slices.Clip(x.Evidence), x.Elsewhere...)
	for _, e := range all {
		name := e.Name
		if e.Case != "" {
			name = e.Case + "/" + e.Name
		}
		if e.Again {
			name += " (after the case was closed)"
		}
		head = append(head, name)
	}
	t := newTable(w, head...)
	for i, of := range x.Expectations {
		row := table.Row{plain(of.Label()), plain(of.That)}
		for _, e := range all {
			cell := "…"
			if got := e.Checks[i]; got != nil {
				cell = verdictOf(*got)
				if got.Breaks > 0 {
					cell = fmt.Sprintf("breaks at %d of %d", got.Breaks, got.Holds+got.Breaks+got.Unknown)
				}
			}
			row = append(row, cell)
		}
		t.AppendRow(row)
	}
	for i, of := range x.Checkpoints {
		row := table.Row{plain(of.Label), "(checkpoint)"}
		for _, e := range x.Evidence {
			cell := "…"
			if got := e.Counts[i]; got != nil {
				cell = counted(int(got.Hits), "hit")
			}
			row = append(row, cell)
		}
		t.AppendRow(row)
	}
	t.Render()
}

func (a *app) evidenceCommand() *cobra.Command {
	var page client.Page
	c := &cobra.Command{
		Use: "evidence CASE", Short: "List a case's evidence, newest first, find some, or upload some", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.EvidencePage(c.Context(), args[0], page)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "evidence", "program", "state", "moments", "bytes", "started", "host", "outcome")
				for _, e := range list {
					state := e.State
					if e.State == api.StateIndexing {
						state = fmt.Sprintf("indexing, %d %%", int(100*e.Progress))
					}
					if e.State == api.StateIndexing && e.Trouble != "" {
						e.Outcome = "is tried again: " + e.Trouble
					}
					t.AppendRow(table.Row{args[0] + "/" + e.Name, plain(e.Program), state, e.Moments, e.Bytes, started(e.Started), plain(e.Host), plain(e.Outcome)})
				}
				t.Render()
				more(w, list, api.RecordsOfPage, func(e api.EvidenceInfo) string { return e.Name })
				printBreaks(w, list)
			})
		},
	}
	var name string
	add := &cobra.Command{
		Use: "add CASE FILE", Short: "Upload evidence; - reads standard input", Args: args(2, 2, "CASE FILE --name NAME"),
		RunE: func(c *cobra.Command, args []string) error { return a.upload(c.Context(), args[0], args[1], name) },
	}
	add.Flags().StringVar(&name, "name", "", "its name in the case (default the file's name without its ending)")
	a.readingFlags(add)
	index := a.ofCase("index CASE/NAME", "Index evidence again, as after a lack of disk", 1, func(ctx context.Context, s *client.Client, args []string) error {
		caseName, name, err := nameInCase(args[0])
		if err != nil {
			return err
		}
		if _, err := s.IndexAgain(ctx, caseName, name); err != nil {
			return err
		}
		return a.indexed(ctx, s, caseName, name)
	})
	pageFlags(c, &page, "the evidence of this name")
	c.AddCommand(add, index)
	c.AddCommand(a.deletedEvidence()...)
	return c
}

// printBreaks prints which expectations break in evidence: those of its case, and those of other cases with what they found.
func printBreaks(w io.Writer, list []api.EvidenceInfo) {
	for _, e := range list {
		if e.Broken > 0 {
			again := ""
			if e.Again {
				again = " again, after the case was closed"
			}
			fmt.Fprintf(w, "%s: %s broken%s\n", plain(e.Name), counted(e.Broken, "expectation"), again)
		}
		for _, k := range e.Known {
			fmt.Fprintf(w, "%s: breaks an expectation of case %s: %s, at %s: %d of %s", plain(e.Name), plain(k.Case), plain(k.That), plain(k.Checkpoint), k.Breaks, counted(k.Hits, "hit"))
			if k.Cause != "" {
				fmt.Fprintf(w, "; its cause: %s", plain(k.Cause))
			}
			fmt.Fprintln(w)
		}
	}
}

func (a *app) upload(ctx context.Context, caseName, path, name string) error {
	s, err := a.client()
	if err != nil {
		return err
	}
	in, size := a.in, int64(-1)
	var file *os.File
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return usage("check the path", "%w", err)
		}
		defer f.Close()
		if info, err := f.Stat(); err == nil {
			size = info.Size()
			if info.Mode().IsRegular() && size >= client.InParts {
				file = f
			}
		}
		in = f
		if name == "" {
			name = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
		}
	}
	if name == "" {
		return usage("give it one with --name", "what comes from standard input has no name")
	}
	bar := progressbar.NewOptions64(size, progressbar.OptionSetWriter(a.err), progressbar.OptionShowBytes(true), progressbar.OptionSetDescription("upload"),
		progressbar.OptionSetVisibility(a.terminal()), progressbar.OptionClearOnFinish())
	if file != nil {
		if err := a.uploadInParts(ctx, s, client.Parts{Case: caseName, Name: name, Kind: "evidence", Reading: api.Reading{As: a.as, Fields: a.rules()}, Size: size, Bytes: file, Sent: func(n int64) { _ = bar.Set64(n) }}, file); err != nil {
			return err
		}
		return a.indexed(ctx, s, caseName, name)
	}
	reader := progressbar.NewReader(in, bar)
	if _, err := s.Upload(ctx, caseName, name, &reader, api.Reading{As: a.as, Fields: a.rules()}); err != nil {
		return err
	}
	return a.indexed(ctx, s, caseName, name)
}

// indexed waits until evidence is indexed, and prints what it is.
func (a *app) indexed(ctx context.Context, s *client.Client, caseName, name string) error {
	index := progressbar.NewOptions(100, progressbar.OptionSetWriter(a.err), progressbar.OptionSetDescription("index"), progressbar.OptionSetVisibility(a.terminal()), progressbar.OptionClearOnFinish())
	e, err := s.Await(ctx, caseName, name, func(e api.EvidenceInfo) {
		if e.Trouble != "" && e.State == api.StateIndexing {
			index.Describe("index, tried again: " + plain(e.Trouble))
		}
		_ = index.Set(int(100 * e.Progress))
	})
	if err != nil {
		return err
	}
	return a.print(e, func(w io.Writer) {
		fmt.Fprintf(w, "%s/%s  %s, %s\n  sha256 %s\n  %s\n", caseName, e.Name, counted(int(e.Bytes), "byte"), counted(int(e.Moments), "moment"), e.SHA256, plain(e.Outcome))
	})
}

// started formats when evidence began; empty if it does not say.
func started(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.Format("2006-01-02 15:04")
}

func (a *app) terminal() bool {
	f, ok := a.err.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// pageFlags adds the flags that choose a page of a list.
func pageFlags(c *cobra.Command, p *client.Page, after string) {
	c.Flags().StringVar(&p.Text, "text", "", "only those with this text")
	c.Flags().StringVar(&p.After, "after", "", "only those after "+after)
}

// more says how to read the next page, if this one is full.
func more[T any](w io.Writer, list []T, page int, name func(T) string) {
	if len(list) == page {
		fmt.Fprintf(w, "there may be more: --after %s\n", name(list[len(list)-1]))
	}
}

func (a *app) checkpointCommand() *cobra.Command {
	var page client.Page
	c := &cobra.Command{
		Use: "checkpoint CASE", Short: "List a case's checkpoints, set, switch and delete them", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.CheckpointsPage(c.Context(), args[0], page)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "number", "place", "when", "hits", "enabled", "by", "text")
				for _, x := range list {
					t.AppendRow(table.Row{x.ID, plain(x.Label), plain(x.When), plain(x.Nth), map[bool]string{true: "yes", false: "no"}[x.Enabled] + map[bool]string{true: ", private"}[x.Private], x.By, plain(x.Text)})
				}
				t.Render()
				more(w, list, api.RecordsOfPage, func(x api.Checkpoint) string { return strconv.FormatInt(x.ID, 10) })
			})
		},
	}
	pageFlags(c, &page, "the checkpoint with this number")
	c.AddCommand(a.setCheckpoint(), a.checkpointSwitch("enable", "Enable a checkpoint", true), a.checkpointSwitch("disable", "Disable a checkpoint", false))
	c.AddCommand(&cobra.Command{
		Use: "delete CASE NUMBER", Short: "Delete a checkpoint", Args: args(2, 2, "CASE NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			s, id, err := a.numbered(args[1])
			if err != nil {
				return err
			}
			if err := s.DeleteCheckpoint(c.Context(), args[0], id); err != nil {
				return err
			}
			return a.print(map[string]int64{"deleted": id}, func(w io.Writer) { fmt.Fprintf(w, "deleted checkpoint %d\n", id) })
		},
	})
	return c
}

func (a *app) setCheckpoint() *cobra.Command {
	var evidence string
	var f *checkpointFlags
	n := api.NewCheckpoint{}
	on := reflect.ValueOf(&ask.CheckpointOn{}).Elem()
	c := &cobra.Command{
		Use: "set CASE " + checkpointUsage(), Short: "Set a checkpoint", Args: args(1, 2, "CASE --line FILE:N [--when EXPRESSION] [--in EVIDENCE]"),
		RunE: func(c *cobra.Command, args []string) error {
			text, err := f.on(args[1:])
			if err != nil {
				return err
			}
			q := on.Interface().(ask.CheckpointOn)
			n.On, n.When, n.Nth, n.Thread, n.Evidence = text, q.When, q.Nth, uint32(q.OnThread), evidence
			if kind, _, err := find.Parse(text); err == nil && kind.Placed {
				l, err := locator.Parse(evidence)
				if err != nil || l.Moment < 0 || l.Thread == 0 {
					return usage("say where the path is reached, for example --in failing-run@4711#1.0", "a checkpoint on a %s belongs to one recording", kind.Name)
				}
				n.Moment, n.Thread, n.Frame, n.Evidence = int64(l.Moment), uint32(l.Thread), l.Frame, l.Evidence
			}
			s, err := a.client()
			if err != nil {
				return err
			}
			x, err := s.SetCheckpoint(c.Context(), args[0], n)
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) {
				text := ""
				if x.Text != "" {
					text = "  | " + plain(x.Text)
				}
				fmt.Fprintf(w, "checkpoint %d on %s%s\n", x.ID, plain(x.Label), text)
			})
		},
	}
	f = addCheckpointFlags(c)
	for _, x := range ask.Fields(on.Type()) {
		bind(c.Flags(), on, x)
	}
	c.Flags().StringArrayVar(&n.Show, "show", nil, "expression to show at each hit; may be repeated")
	c.Flags().BoolVar(&n.Private, "private", false, "only you see it and halt at it")
	c.Flags().BoolVar(&n.Listing, "listing", false, "list its hits only; replay does not halt at it")
	c.Flags().StringVar(&evidence, "in", "", "evidence in which the place is looked up (default the newest); for --write a locator in it")
	a.serviceFlags(c)
	return c
}

func (a *app) checkpointSwitch(use, short string, enabled bool) *cobra.Command {
	return &cobra.Command{
		Use: use + " CASE NUMBER", Short: short, Args: args(2, 2, "CASE NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			s, id, err := a.numbered(args[1])
			if err != nil {
				return err
			}
			x, err := s.ChangeCheckpoint(c.Context(), args[0], id, api.CheckpointChange{Enabled: &enabled})
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
		return nil, 0, usage("wraith checkpoint CASE lists them", "invalid checkpoint number %q", text)
	}
	s, err := a.client()
	return s, id, err
}
