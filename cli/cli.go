// Package cli is the command line of Wraithology. Its Cobra commands ask local evidence through
// core and shared evidence through the client, with the same requests.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"wraithology/core/fault"

	"github.com/spf13/cobra"
)

// errNo means that the answer is no or that nothing was found. The output says the rest.
var errNo = errors.New("")

// exitCode is the exit code of a recorded program.
type exitCode int

func (e exitCode) Error() string { return fmt.Sprintf("ended with code %d", int(e)) }

// usage is an error in the use of the command line, with a remedy.
func usage(remedy, format string, args ...any) error {
	return fault.InvalidUse.New(remedy, format, args...)
}

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
	zone     string
	patterns []string
	longest  int
	own      []string
	within   time.Duration
	unmask   bool
	piped    string // a copy of standard input
	previews bool   // while evidence is indexed, what is known of its end is shown
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

// exit prints an error, one line for the error and one for the remedy, and returns the exit code.
func (a *app) exit(err error) int {
	var code exitCode
	switch {
	case err == nil:
		return fault.ExitFine
	case err == errNo:
		return fault.ExitNo
	case errors.As(err, &code):
		return int(code)
	}
	kind, remedy := fault.Of(err)
	fmt.Fprintln(a.err, "wraith: "+plain(strings.ReplaceAll(err.Error(), "\n", " ")))
	fmt.Fprintln(a.err, "  "+remedy)
	return kind.Exit
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "wraith",
		Short:         "Replay what already happened: execution logs, core dumps, event traces, logs and crash texts, with their stacks and values",
		Long:          "wraith records programs, replays recordings, event traces, logs and runtime traces, and reads core dumps and crash texts.\n\nA place in evidence is named by a locator, EVIDENCE@MOMENT#THREAD.FRAME. EVIDENCE is\na file, - for standard input, or CASE/NAME in the service. Omitted parts mean the failure's moment,\nits thread, and frame 0.",
		SilenceErrors: true, SilenceUsage: true, TraverseChildren: true, SuggestionsMinimumDistance: 2,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
		Args:              cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			remedy := "wraith help lists the commands"
			if near := c.SuggestionsFor(args[0]); len(near) > 0 {
				remedy = "did you mean wraith " + strings.Join(near, ", or wraith ") + "?"
			}
			return usage(remedy, "unknown command %q", args[0])
		},
	}
	// These two flags may also be before the command.
	root.Flags().BoolVar(&a.json, "json", false, "print the answer as JSON")
	root.Flags().StringVar(&a.config, "config", defaultConfig(), "file that keeps the sign-in")
	for _, name := range []string{"json", "config"} {
		if err := root.Flags().MarkHidden(name); err != nil {
			panic(err) // the flag exists: it is added above
		}
	}
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage(strings.Replace(c.CommandPath(), "wraith", "wraith help", 1)+" lists its flags", "%w", err)
	})
	root.AddCommand(a.record(), a.cache(), a.check(), a.reproduce(), a.trial(), a.suppose())
	for _, make := range commands {
		root.AddCommand(make(a))
	}
	root.AddCommand(a.serviceCommands()...)
	return root
}

// outputFlags adds the flags of commands that print an answer.
func (a *app) outputFlags(c *cobra.Command) {
	c.Flags().BoolVar(&a.json, "json", false, "print the answer as JSON")
}

// signInFlags adds the flags of commands that can ask the service.
func (a *app) signInFlags(c *cobra.Command) {
	c.Flags().StringVar(&a.config, "config", defaultConfig(), "file that keeps the sign-in")
}

// moduleCache is the folder for unpacked sections of binaries; empty for none.
func moduleCache() string {
	dir, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "wraithology", "modules")
}

func defaultConfig() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "wraith.json"
	}
	return dir + "/wraith/sign-in.json"
}

// foundSome returns errNo if nothing was found.
func foundSome(n int) error {
	if n == 0 {
		return errNo
	}
	return nil
}

// args checks the number of a command's arguments.
func args(least, most int, wanted string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < least || len(args) > most {
			return usage("use: "+c.CommandPath()+" "+wanted, "%s takes another number of arguments than %d", c.CommandPath(), len(args))
		}
		return nil
	}
}

// print writes v as JSON, or calls text to write it for people.
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
