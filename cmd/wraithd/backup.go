package main

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"wraithology/service"
)

func backups(o *service.Options) []*cobra.Command {
	return []*cobra.Command{{
		Use: "backup FILE", Short: "Write all that the service has into a new file; it may run meanwhile", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := service.Backup(c.Context(), *o, args[0])
			if err == nil {
				fmt.Printf("wrote %s, as the service was at %s\n", args[0], h.At.Local().Format(time.DateTime))
			}
			return err
		},
	}, {
		Use: "restore FILE", Short: "Make a data folder, given with --data, of a backup", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := service.Restore(c.Context(), *o, args[0])
			if err == nil {
				fmt.Printf("restored into %s what the service had at %s: wraithd --data %s serves it\n", o.Data, h.At.Local().Format(time.DateTime), o.Data)
			}
			return err
		},
	}}
}
