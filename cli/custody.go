package cli

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/custody"
)

// caseCustody lists or exports the record of a case.
func (a *app) caseCustody() *cobra.Command {
	var before int64
	var reads bool
	var out, text string
	c := a.ofCase("custody CASE", "List who did what in a case, newest first", 1, func(ctx context.Context, s *client.Client, args []string) error {
		if out != "" {
			return a.exportCustody(ctx, s, args[0], out)
		}
		list, err := s.Custody(ctx, args[0], before, reads, text)
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			for _, x := range list {
				fmt.Fprintf(w, "%s  %s %s\n", x.At.Local().Format("2006-01-02 15:04:05"), plain(x.By), plain(x.What))
			}
			if len(list) == api.CustodyOfPage {
				fmt.Fprintf(w, "there may be more: --before %d\n", list[len(list)-1].Number)
			}
		})
	})
	c.Flags().Int64Var(&before, "before", 0, "only entries before this number")
	c.Flags().StringVar(&text, "text", "", "only entries with this text, or by somebody whose name has it")
	c.Flags().BoolVar(&reads, "reads", false, "also list who read what: one entry for each person, evidence, question and minute")
	c.Flags().StringVarP(&out, "output", "o", "", "write the whole record, signed, into this file, and check it")
	return c
}

// exportCustody writes the record of a case into a file, and checks that it is whole.
func (a *app) exportCustody(ctx context.Context, s *client.Client, name, out string) error {
	if err := a.toFile(out, func(w io.Writer) error { return s.ExportCustody(ctx, name, w) }); err != nil {
		return err
	}
	return a.checkCustody(out, nil)
}

// verifyCustody checks an exported record.
func (a *app) verifyCustody() *cobra.Command {
	var keyFile string
	c := &cobra.Command{
		Use: "verify FILE", Short: "Check a record that custody --output wrote: no entry was changed, left out or added", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if keyFile == "" {
				return a.checkCustody(args[0], nil)
			}
			text, err := os.ReadFile(keyFile)
			if err != nil {
				return usage("check the path of --key", "%w", err)
			}
			key, err := custody.ParsePublicPEM(text)
			if err != nil {
				return fmt.Errorf("--key %s: %w", keyFile, err)
			}
			return a.checkCustody(args[0], key)
		},
	}
	c.Flags().StringVar(&keyFile, "key", "", "file with the key of the service, which wraithd custody key prints there")
	return c
}

// checkedCustody is what was found about an exported record.
type checkedCustody struct {
	custody.Head
	Changes int64  `json:"changes"`
	Key     string `json:"key"` // SHA-256 of the key, the beginning
	IsKnown bool   `json:"isKnown"`
}

func (a *app) checkCustody(path string, key ed25519.PublicKey) (err error) {
	f, err := os.Open(path)
	if err != nil {
		return usage("check the path", "%w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	h, changes, err := custody.Verify(f, key)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	sum := sha256.Sum256(h.Key)
	out := checkedCustody{Head: h.Head, Changes: changes, Key: fmt.Sprintf("%x", sum[:8]), IsKnown: key != nil}
	return a.print(out, func(w io.Writer) {
		fmt.Fprintf(w, "the record of %s is whole: %s, %s; signed %s by key %s\n", plain(h.Head.Case), counted(int(changes), "change"), counted(int(h.Head.Number-changes), "read"),
			h.Head.At.Local().Format("2006-01-02 15:04:05"), out.Key)
		if key == nil {
			fmt.Fprintln(w, "whose key that is, the file does not prove: give the key of the service with --key")
		}
	})
}
