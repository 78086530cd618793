package main

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/service"
	"wraithology/service/accounts"
	"wraithology/service/mail"
	"wraithology/service/store"
)

// person manages accounts, beside a running service too.
func person(o *service.Options) *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "Manage who can sign in"}
	var admin bool
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a person; the password is read from standard input, and the first person is an administrator", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			password, err := password(c.InOrStdin())
			if err != nil {
				return err
			}
			err = service.WithStore(c.Context(), *o, func(s *store.Store) error {
				return s.Together(c.Context(), func(s *store.Store) error {
					if err := accounts.New(s, o.Front).Add(c.Context(), args[0], password, admin); err != nil {
						return err
					}
					return s.Note(c.Context(), store.OfService, 0, "accounts: added "+args[0])
				})
			})
			if err == nil {
				fmt.Println("added", args[0])
			}
			return err
		},
	}
	add.Flags().BoolVar(&admin, "admin", false, "may manage people")
	var without bool
	grant := ofPerson(o, "grant NAME", "Make a person an administrator", 1, func(ctx context.Context, s *store.Store, p store.Person, _ []string) (string, error) {
		if without {
			return p.Name + " is no administrator any more", s.Grant(ctx, p.ID, false)
		}
		return p.Name + " is an administrator", s.Grant(ctx, p.ID, true)
	})
	grant.Flags().BoolVar(&without, "revoke", false, "take it away")
	c.AddCommand(add, grant,
		&cobra.Command{
			Use: "list", Short: "List the accounts", Args: cobra.NoArgs,
			RunE: func(c *cobra.Command, _ []string) error {
				return service.WithStore(c.Context(), *o, func(s *store.Store) error {
					list, err := s.Accounts(c.Context())
					for _, p := range list {
						what := ""
						if p.Admin {
							what += ", administrator"
						}
						if p.DisabledAt != nil {
							what += ", disabled since " + p.DisabledAt.Format("2006-01-02")
						}
						fmt.Println(p.Name + what)
					}
					return err
				})
			},
		},
		&cobra.Command{
			Use: "set-password NAME", Short: "Set a new password, read from standard input, and end the person's sessions", Args: cobra.ExactArgs(1),
			RunE: func(c *cobra.Command, args []string) error {
				password, err := password(c.InOrStdin())
				if err != nil {
					return err
				}
				return withPerson(c.Context(), o, args[0], func(s *store.Store, p store.Person) (string, error) {
					return p.Name + " has a new password", accounts.New(s, o.Front).SetPassword(c.Context(), p.ID, password)
				})
			},
		},
		ofPerson(o, "disable NAME", "Keep a person from signing in; tokens do not work meanwhile", 1, func(ctx context.Context, s *store.Store, p store.Person, _ []string) (string, error) {
			return p.Name + " cannot sign in", s.Disable(ctx, p.ID, true)
		}),
		ofPerson(o, "enable NAME", "Allow a disabled person to sign in again", 1, func(ctx context.Context, s *store.Store, p store.Person, _ []string) (string, error) {
			return p.Name + " can sign in", s.Disable(ctx, p.ID, false)
		}),
		ofPerson(o, "remove NAME", "Remove an account; what the person did stays in the records", 1, func(ctx context.Context, s *store.Store, p store.Person, _ []string) (string, error) {
			return "removed " + p.Name, s.RemovePerson(ctx, p)
		}),
		ofPerson(o, "link NAME ISSUER SUBJECT", "Let a person sign in by an OpenID provider, which calls the person SUBJECT", 3, func(ctx context.Context, s *store.Store, p store.Person, args []string) (string, error) {
			return fmt.Sprintf("%s is %s of %s", p.Name, args[2], args[1]), s.Link(ctx, p.ID, args[1], args[2])
		}),
		ofPerson(o, "mail NAME ADDRESS", "Set the mail address of a person; - for none", 2, func(ctx context.Context, s *store.Store, p store.Person, args []string) (string, error) {
			address := ""
			if args[1] != "-" {
				var err error
				if address, err = mail.Address(args[1]); err != nil {
					return "", err
				}
			}
			return fmt.Sprint("mails for ", p.Name, " go to ", cmp.Or(address, "nobody")), s.SetMail(ctx, p.ID, address)
		}))
	return c
}

// password reads a line.
func password(in io.Reader) (string, error) {
	text, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && text == "" {
		return "", fmt.Errorf("read the password from standard input: %w", err)
	}
	return strings.TrimRight(text, "\r\n"), nil
}

// ofPerson is a command about a person, its first argument.
func ofPerson(o *service.Options, use, short string, n int, do func(ctx context.Context, s *store.Store, p store.Person, args []string) (string, error)) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(n), RunE: func(c *cobra.Command, args []string) error {
		return withPerson(c.Context(), o, args[0], func(s *store.Store, p store.Person) (string, error) { return do(c.Context(), s, p, args) })
	}}
}

// withPerson does something with a person and prints what was done.
func withPerson(ctx context.Context, o *service.Options, name string, do func(s *store.Store, p store.Person) (string, error)) error {
	return service.WithStore(ctx, *o, func(s *store.Store) error {
		p, err := s.PersonByName(ctx, name)
		if err != nil {
			return err
		}
		done := ""
		err = s.Together(ctx, func(s *store.Store) (err error) {
			if done, err = do(s, p); err != nil {
				return err
			}
			return s.Note(ctx, store.OfService, 0, "accounts: "+done)
		})
		if err == nil {
			fmt.Println(done)
		}
		return err
	})
}
