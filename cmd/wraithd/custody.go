package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	core "wraithology/core/custody"
	"wraithology/core/fault"
	"wraithology/service"
	"wraithology/service/custody"
	"wraithology/service/store"
)

// record is about the records of who did what, beside a running service too.
func record(o *service.Options) *cobra.Command {
	c := &cobra.Command{Use: "custody", Short: "Check the records of who did what"}
	withBook := func(c *cobra.Command, do func(*store.Store, *custody.Book) error) error {
		return service.WithStore(c.Context(), *o, func(s *store.Store) error {
			identity, err := s.Identity(c.Context())
			if err != nil {
				return err
			}
			b, err := custody.Read(filepath.Join(o.Data, service.CustodyFolder), identity)
			if err != nil {
				return err
			}
			return do(s, b)
		})
	}
	var before int64
	list := &cobra.Command{
		Use: "list", Short: "List what was done to the service, newest first: accounts, and cases that are gone", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return service.WithStore(c.Context(), *o, func(s *store.Store) error {
				const most = 200
				list, err := s.CustodyOf(c.Context(), store.OfService, store.CustodyPage{Before: before, Most: most, Reads: true})
				for _, x := range list {
					fmt.Printf("%6d  %s  %s: %s\n", x.Number, x.At.Local().Format("2006-01-02 15:04:05"), x.By, x.What)
				}
				if len(list) == most {
					fmt.Printf("there may be more: --before %d\n", list[most-1].Number)
				}
				return err
			})
		},
	}
	list.Flags().Int64Var(&before, "before", 0, "only entries before this number")
	c.AddCommand(list, &cobra.Command{
		Use: "verify", Short: "Check that all records are whole, and end as they were signed", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return withBook(c, func(s *store.Store, b *custody.Book) error {
				troubles := 0
				found, err := b.Verify(c.Context(), s, func(trouble error) {
					troubles++
					fmt.Fprintln(os.Stderr, trouble)
				})
				if err != nil {
					return err
				}
				fmt.Printf("%d records with %d entries are whole\n", found.Records, found.Entries)
				if troubles > 0 {
					return fault.InvalidCustody.New("", "%d records are not whole", troubles)
				}
				return nil
			})
		},
	}, &cobra.Command{
		Use: "key", Short: "Print the key with which others check what the service has signed", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return withBook(c, func(_ *store.Store, b *custody.Book) error {
				_, err := os.Stdout.Write(core.PublicPEM(b.Public()))
				return err
			})
		},
	})
	return c
}
