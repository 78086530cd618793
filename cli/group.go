package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/fault"
)

// groupCommands are the commands about the people of a case or of a team, which word names.
func (a *app) groupCommands(word string, of func(*client.Client, string) client.Group) []*cobra.Command {
	arg := strings.ToUpper(word)
	var role string
	var unmask bool
	add := &cobra.Command{
		Use: "add " + arg + " PERSON", Short: "Add a person to a " + word + ", or change the role", Args: args(2, 2, arg+" PERSON --role lead|member|viewer"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			to := api.MemberChange{Role: role}
			if c.Flags().Changed("unmask") {
				to.Unmasks = &unmask
			}
			m, err := of(s, args[0]).Change(c.Context(), args[1], to)
			if err != nil {
				return err
			}
			return a.print(m, func(w io.Writer) {
				fmt.Fprintf(w, "%s is now %s of %s", m.Name, m.Role, args[0])
				if m.Unmasks {
					fmt.Fprint(w, ", and may see what is masked")
				}
				fmt.Fprintln(w)
				if m.Role != role {
					fmt.Fprintf(w, "  by a team of the case; as %s otherwise\n", role)
				}
			})
		},
	}
	add.Flags().BoolVar(&unmask, "unmask", false, "may see what is masked; --unmask=false takes that away")
	add.Flags().StringVar(&role, "role", api.RoleMember, "lead, member or viewer")
	after := ""
	members := a.ofCase("members "+arg, "List the people of a "+word+", by name", 1, func(ctx context.Context, s *client.Client, args []string) error {
		list, err := of(s, args[0]).Members(ctx, after)
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			t := newTable(w, "person", "role", "sees what is masked", "by team")
			t.SuppressEmptyColumns()
			for _, m := range list {
				t.AppendRow(table.Row{m.Name, m.Role, map[bool]string{true: "yes"}[m.Unmasks], strings.Join(m.Teams, ", ")})
			}
			t.Render()
			more(w, list, api.MembersOfPage, func(m api.Member) string { return m.Name })
		})
	})
	members.Flags().StringVar(&after, "after", "", "only people after this name")
	remove := a.ofCase("remove "+arg+" PERSON", "Remove a person from a "+word+"; everybody can remove themselves", 2, func(ctx context.Context, s *client.Client, args []string) error {
		if err := of(s, args[0]).Remove(ctx, args[1]); err != nil {
			return err
		}
		return a.print(map[string]string{"removed": args[1]}, func(w io.Writer) { fmt.Fprintf(w, "%s is no member of %s any more\n", args[1], args[0]) })
	})
	return []*cobra.Command{add, members, remove, a.inviteCommand(word, of), a.invitationsCommand(word, of)}
}

func (a *app) inviteCommand(word string, of func(*client.Client, string) client.Group) *cobra.Command {
	var n api.NewInvitation
	c := a.ofCase("invite "+strings.ToUpper(word), "Make a link by which people join a "+word, 1, func(ctx context.Context, s *client.Client, args []string) error {
		x, err := of(s, args[0]).Invite(ctx, n)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) {
			fmt.Fprintf(w, "invitation %d: %s may join %s as %s until %s; the link is shown once:\n%s\n", x.ID, counted(x.Places, "person"), args[0], x.Role, started(x.Expires), s.Link(x))
		})
	})
	c.Flags().StringVar(&n.Role, "role", api.RoleMember, "lead, member or viewer")
	c.Flags().BoolVar(&n.Unmasks, "unmask", false, "who joins may see what is masked")
	c.Flags().IntVar(&n.Days, "days", 7, "days until the link expires, up to 90")
	c.Flags().IntVar(&n.Places, "places", 1, "number of people who may use the link, up to 1000")
	c.Flags().BoolVar(&n.Accounts, "accounts", false, "whoever has no account may make one; administrators alone may allow that")
	return c
}

func (a *app) invitationsCommand(word string, of func(*client.Client, string) client.Group) *cobra.Command {
	var withdraw int64
	arg := strings.ToUpper(word)
	c := a.ofCase("invitations "+arg, "List the links by which people may join a "+word+", or withdraw one", 1, func(ctx context.Context, s *client.Client, args []string) error {
		if withdraw != 0 {
			if err := of(s, args[0]).Withdraw(ctx, withdraw); errors.Is(err, fault.NotFound) {
				return fault.NotFound.New("wraith "+word+" invitations "+args[0]+" lists them", "%s has no invitation %d", args[0], withdraw)
			} else if err != nil {
				return err
			}
			return a.print(map[string]int64{"withdrawn": withdraw}, func(w io.Writer) { fmt.Fprintf(w, "invitation %d does not work any more\n", withdraw) })
		}
		list, err := of(s, args[0]).Invitations(ctx)
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			t := newTable(w, "invitation", "as", "sees what is masked", "makes accounts", "places", "by", "made", "expires")
			t.SuppressEmptyColumns()
			yes := map[bool]string{true: "yes"}
			for _, x := range list {
				t.AppendRow(table.Row{x.ID, x.Role, yes[x.Unmasks], yes[x.Accounts], x.Places, x.By, started(x.Created), started(x.Expires)})
			}
			t.Render()
		})
	})
	c.Flags().Int64Var(&withdraw, "withdraw", 0, "number of the invitation to withdraw")
	return c
}

// join joins a case or a team by the link of an invitation.
func (a *app) join() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use: "join LINK", Short: "Join a case or a team by the link of an invitation", Args: args(1, 1, "LINK"),
		RunE: func(c *cobra.Command, args []string) error {
			base, secret, ok := strings.Cut(args[0], "/join#")
			if !ok || base == "" || secret == "" {
				return usage("use the whole link, https://…/join#…", "invalid link %q", args[0])
			}
			if name != "" {
				return a.joinWithAccount(c.Context(), base, secret, name)
			}
			s, err := a.client()
			if err != nil {
				return fmt.Errorf("join: %w", err)
			}
			if !strings.HasPrefix(s.Link(api.Invitation{}), base+"/") {
				return usage("sign in there first: wraith sign-in "+base+" --name NAME", "the link is of another service than the one you are signed in to")
			}
			x, err := s.Join(c.Context(), secret)
			if err != nil {
				return err
			}
			return a.printJoined(x)
		},
	}
	c.Flags().StringVar(&name, "new-account", "", "name of an account to make, if the invitation allows that; its password is read from standard input")
	return c
}

// joinWithAccount makes an account, joins, and signs in.
func (a *app) joinWithAccount(ctx context.Context, base, secret, name string) error {
	password, err := a.password()
	if err != nil {
		return err
	}
	who := api.Credentials{Name: name, Password: password}
	s := client.New(base, "")
	x, err := s.JoinWithAccount(ctx, secret, who)
	if err != nil {
		return err
	}
	if _, err := a.signInAs(ctx, base, who); err != nil {
		return err
	}
	return a.printJoined(x)
}

func (a *app) printJoined(x api.Invited) error {
	return a.print(x, func(w io.Writer) {
		if x.Team != "" {
			fmt.Fprintf(w, "you are %s of team %s\n  its cases: wraith case\n", x.Role, x.Team)
			return
		}
		fmt.Fprintf(w, "you are %s of case %s: %s\n  its evidence: wraith evidence %s\n", x.Role, x.Case, plain(x.Title), x.Case)
	})
}

func (a *app) teamCommand() *cobra.Command {
	c := a.ofCase("team", "List your teams, make one, add people to it; its people have their role in all of its cases", 0, func(ctx context.Context, s *client.Client, _ []string) error {
		list, err := s.Teams(ctx)
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			t := newTable(w, "team", "role", "people", "cases")
			for _, x := range list {
				t.AppendRow(table.Row{x.Name, x.Role, x.People, x.Cases})
			}
			t.Render()
		})
	})
	open := a.ofCase("new TEAM", "Make a team, which you then lead", 1, func(ctx context.Context, s *client.Client, args []string) error {
		t, err := s.NewTeam(ctx, args[0])
		if err != nil {
			return err
		}
		return a.print(t, func(w io.Writer) { fmt.Fprintf(w, "made team %s\n", t.Name) })
	})
	remove := a.ofCase("delete TEAM", "Remove a team, from its cases too", 1, func(ctx context.Context, s *client.Client, args []string) error {
		if err := s.DeleteTeam(ctx, args[0]); err != nil {
			return err
		}
		return a.print(map[string]string{"deleted": args[0]}, func(w io.Writer) { fmt.Fprintf(w, "there is no team %s any more\n", args[0]) })
	})
	c.AddCommand(open, remove)
	c.AddCommand(a.groupCommands("team", (*client.Client).InTeam)...)
	return c
}

// caseTeams lists, adds and removes teams of a case.
func (a *app) caseTeams() *cobra.Command {
	var add, remove string
	c := a.ofCase("teams CASE", "List the teams that a case belongs to, add one that you are in, or remove one", 1, func(ctx context.Context, s *client.Client, args []string) error {
		switch {
		case add != "" && remove != "":
			return usage("use one of them", "--add and --remove are both set")
		case add != "":
			t, err := s.AddCaseTeam(ctx, args[0], add)
			if err != nil {
				return err
			}
			return a.print(t, func(w io.Writer) {
				fmt.Fprintf(w, "case %s belongs to team %s: %s\n", args[0], t.Name, counted(t.People, "person"))
			})
		case remove != "":
			if err := s.RemoveCaseTeam(ctx, args[0], remove); err != nil {
				return err
			}
			return a.print(map[string]string{"removed": remove}, func(w io.Writer) { fmt.Fprintf(w, "case %s does not belong to team %s any more\n", args[0], remove) })
		}
		list, err := s.CaseTeams(ctx, args[0])
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			t := newTable(w, "team", "people")
			for _, x := range list {
				t.AppendRow(table.Row{x.Name, x.People})
			}
			t.Render()
		})
	})
	c.Flags().StringVar(&add, "add", "", "team to add: its people are in the case, with their roles")
	c.Flags().StringVar(&remove, "remove", "", "team to remove")
	return c
}
