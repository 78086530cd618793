package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
)

func (a *app) artifactCommand() *cobra.Command {
	var page client.Page
	c := &cobra.Command{
		Use: "artifact CASE", Short: "List a case's binaries, debug files and source text, or upload some", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.ArtifactsPage(c.Context(), args[0], page)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "artifact", "kind", "build ID", "bytes", "uploaded", "by")
				for _, x := range list {
					t.AppendRow(table.Row{x.Name, x.Kind, x.BuildID, x.Bytes, x.Uploaded.Format("2006-01-02 15:04"), plain(x.By)})
				}
				t.Render()
				more(w, list, api.RecordsOfPage, func(x api.Artifact) string { return x.Name })
			})
		},
	}
	var name string
	add := &cobra.Command{
		Use: "add CASE FILE", Short: "Upload a binary, a debug file, or a .zip or .tar.gz of source text", Args: args(2, 2, "CASE FILE --name NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			f, err := os.Open(args[1])
			if err != nil {
				return usage("check the path", "%w", err)
			}
			defer f.Close()
			if name == "" {
				name = filepath.Base(args[1])
			}
			x, err := s.AddArtifact(c.Context(), args[0], name, f)
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) {
				fmt.Fprintf(w, "%s  a %s of %s, %s, build ID %s\n  the case's core dumps are read again with it\n", x.Name, x.Kind, args[0], counted(int(x.Bytes), "byte"), orNone(x.BuildID))
			})
		},
	}
	add.Flags().StringVar(&name, "name", "", "its name in the case; the file's name where left off")
	pageFlags(c, &page, "the artifact of this name")
	c.AddCommand(add)
	c.AddCommand(a.deletedArtifacts()...)
	return c
}
