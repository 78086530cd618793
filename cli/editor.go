package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"

	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/editor"
)

var _ = registerCommand(func(a *app) *cobra.Command { return a.editorCommand() })

func (a *app) editorCommand() *cobra.Command {
	var listen, folder string
	var sitting bool
	c := &cobra.Command{
		Use: "editor EVIDENCE|CASE/NAME", Short: "Let your editor read the evidence by the open Debug Adapter Protocol",
		Long: `Let your editor read the evidence by the open Debug Adapter Protocol, on standard input and output, or with --listen on a
loopback port. docs/editor.md says how to set an editor up.`,
		Args: args(1, 1, "EVIDENCE|CASE/NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			t, err := a.open(c.Context(), args[0])
			if err != nil {
				return err
			}
			serve := func(in io.Reader, out io.Writer) error {
				var team editor.Team
				if sitting {
					x, err := a.teamOf(c.Context(), args[0])
					if err != nil {
						return err
					}
					team = x
				}
				return editor.NewSession(t.Target, folder, team, out).Serve(c.Context(), in)
			}
			if sitting && t.Shared == nil {
				return usage("name evidence in the service, as CASE/NAME", "--sitting needs a sitting, and local evidence has none")
			}
			if listen == "" {
				return serve(a.in, a.out)
			}
			return a.listenForEditors(c.Context(), listen, serve)
		},
	}
	a.evidenceFlags(c)
	c.Flags().StringVar(&listen, "listen", "", "loopback address to listen on, as 127.0.0.1:4711, instead of standard input")
	c.Flags().StringVar(&folder, "folder", ".", "where the recorded source is on this machine; files that are not there are sent from the evidence")
	c.Flags().BoolVar(&sitting, "sitting", false, "lead or follow the team's sitting")
	return c
}

// listenForEditors serves one editor after the other on a loopback address.
func (a *app) listenForEditors(ctx context.Context, address string, serve func(io.Reader, io.Writer) error) error {
	host, _, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return usage("for example --listen 127.0.0.1:4711", "invalid address %q: only loopback addresses are allowed, because nobody signs in", address)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return usage("use another port", "%w", err)
	}
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	fmt.Fprintf(a.err, "waiting for an editor on %s\n", l.Addr())
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("wait for an editor: %w", err)
		}
		stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
		if err := serve(conn, conn); err != nil && ctx.Err() == nil {
			fmt.Fprintln(a.err, "the editor's session ended:", err)
		}
		stop()
		_ = conn.Close()
	}
}

// team is the sitting that an editor takes part in.
type team struct {
	c  *client.Client
	id int64
	me string
}

func (a *app) teamOf(ctx context.Context, name string) (*team, error) {
	s, caseName, l, err := a.shared(name)
	if err != nil {
		return nil, err
	}
	me, err := s.Me(ctx)
	if err != nil {
		return nil, err
	}
	x, err := s.JoinSitting(ctx, caseName, l.Evidence, "")
	if err != nil {
		return nil, err
	}
	return &team{c: s, id: x.ID, me: me.Name}, nil
}

// Moved implements editor.Team. Whoever does not lead looks around alone from then on.
func (t *team) Moved(ctx context.Context, p ask.Place) error {
	_, err := t.c.ChangeSitting(ctx, t.id, api.SittingChange{Place: &api.Place{Moment: p.Moment, Thread: p.Thread, Frame: p.Frame}})
	if errors.Is(err, fault.NotInSitting) {
		return nil // the stream joins again
	}
	return err
}

// Follow implements editor.Team.
func (t *team) Follow(ctx context.Context, f func(ask.Place)) error {
	return t.c.WatchSitting(ctx, t.id, func(s api.Sitting) error {
		for _, p := range s.Here {
			if p.Name == t.me && p.Mode == api.ModeFollow {
				f(ask.Place{Moment: s.Place.Moment, Thread: s.Place.Thread})
			}
		}
		return nil
	})
}

var _ editor.Team = (*team)(nil)
