// Command wraithd is the service of Wraithology.
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"wraithology/core/fault"
	"wraithology/service"
	"wraithology/service/accounts"
	"wraithology/service/httpapi"
	"wraithology/service/receive"
	"wraithology/service/store"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := root().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "wraithd:", err)
		if kind, remedy := fault.Of(err); kind != fault.Internal {
			fmt.Fprintln(os.Stderr, "  "+remedy)
		}
		os.Exit(1)
	}
}

func root() *cobra.Command {
	o := service.Options{Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))}
	c := &cobra.Command{
		Use: "wraithd", Short: "Serve cases, evidence and sittings", SilenceUsage: true, SilenceErrors: true, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			chosen := c.Flags().Changed("grpc")
			if o.GRPC == "off" {
				o.GRPC = ""
			}
			if !chosen && !free(o.GRPC) {
				o.Log.Warn("OTLP is not received over gRPC: another program uses the address; choose one with --grpc", "address", o.GRPC)
				o.GRPC = ""
			}
			s, err := service.Start(c.Context(), o)
			if err != nil {
				return err
			}
			fmt.Println("serving on", s.URL)
			if s.GRPC != "" {
				fmt.Println("receiving OTLP over gRPC on", s.GRPC)
			}
			select {
			case <-c.Context().Done():
			case err = <-s.Served():
			}
			return errors.Join(err, s.Stop(context.Background()))
		},
	}
	c.PersistentFlags().StringVar(&o.Data, "data", "wraith-data", "folder for evidence and the private database")
	c.PersistentFlags().StringVar(&o.Database, "database", "", "URL of a PostgreSQL database to use instead of a private one")
	c.Flags().StringVar(&o.Listen, "listen", "127.0.0.1:7070", "address to serve on")
	c.Flags().StringVar(&o.GRPC, "grpc", "127.0.0.1:4317", "address for OTLP over gRPC; off for none")
	o.Settle = receive.DefaultSettle
	c.Flags().DurationVar(&o.Settle.Quiet, "settle", o.Settle.Quiet, "time without data after which received data becomes evidence")
	c.AddCommand(person(&o), &cobra.Command{
		Use: "describe", Short: "Print the OpenAPI description of the service", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			text, err := httpapi.Description()
			fmt.Println(string(text))
			return err
		},
	})
	return c
}

// free reports whether an address is free to listen on.
func free(address string) bool {
	l, err := net.Listen("tcp", address)
	return err == nil && l.Close() == nil
}

func person(o *service.Options) *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "Manage who can sign in"}
	var admin bool
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a person, or set a new password; it is read from standard input", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			password, err := bufio.NewReader(c.InOrStdin()).ReadString('\n')
			if err != nil && password == "" {
				return fmt.Errorf("read the password from standard input: %w", err)
			}
			err = service.WithStore(c.Context(), *o, func(s *store.Store) error {
				return accounts.New(s).Add(c.Context(), args[0], strings.TrimRight(password, "\r\n"), admin)
			})
			if err == nil {
				fmt.Println("added", args[0])
			}
			return err
		},
	}
	add.Flags().BoolVar(&admin, "admin", false, "may manage people")
	c.AddCommand(add)
	return c
}
