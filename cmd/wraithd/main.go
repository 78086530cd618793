// Command wraithd is the service of Wraithology.
package main

import (
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
	"wraithology/service/front"
	"wraithology/service/httpapi"
	"wraithology/service/jobs"
	"wraithology/service/mail"
	"wraithology/service/notices"
	"wraithology/service/receive"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends the process at once
	if err := root().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "wraithd:", err)
		if kind, remedy := fault.Of(err); kind != fault.Internal {
			fmt.Fprintln(os.Stderr, "  "+remedy)
		}
		os.Exit(1)
	}
}

func root() *cobra.Command {
	var passwordFile, openidSecretFile string
	var webhooksTo, proxies []string
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
			var err error
			if o.Front.Proxies, err = front.Networks("--proxy", proxies); err != nil {
				return err
			}
			if err := outgoing(&o, passwordFile, webhooksTo); err != nil {
				return err
			}
			o.OpenID.Address = o.Address
			if o.OpenID.Secret, err = secretIn(openidSecretFile, "the OpenID provider"); err != nil {
				return err
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
	c.Flags().StringVar(&o.Address, "address", "", "address of the service in mails and webhooks, as https://wraith.example.org; the one it listens on if it is not given")
	c.Flags().StringVar(&o.Mail.Server, "smtp", "", "mail server, as HOST:PORT; no mail is sent without one")
	c.Flags().StringVar(&o.Mail.From, "smtp-from", "", "mail address of the service")
	c.Flags().StringVar(&o.Mail.User, "smtp-user", "", "name to sign in with at the mail server")
	c.Flags().StringVar(&passwordFile, "smtp-password-file", "", "file with the password for the mail server")
	c.Flags().StringVar(&o.Mail.Protection, "smtp-protection", mail.StartTLS, "starttls, tls or off, which is for a server on the same machine")
	c.Flags().DurationVar(&o.MailEvery, "mail-every", notices.DefaultEvery, "time between two mails, or webhooks, to one receiver about a case")
	c.Flags().StringSliceVar(&webhooksTo, "webhooks-to", nil, "private networks that webhooks may be sent to, as 10.1.0.0/16")
	c.Flags().StringVar(&o.Front.Certificate, "tls-certificate", "", "file with the certificate and its chain, in PEM; it is read again when it changes")
	c.Flags().StringVar(&o.Front.Key, "tls-key", "", "file with the key of the certificate, in PEM")
	c.Flags().StringSliceVar(&proxies, "proxy", nil, "addresses or networks of proxies that serve the service by HTTPS, and are trusted to name the client")
	c.Flags().StringVar(&o.OpenID.Issuer, "openid-issuer", "", "OpenID provider by which people sign in, as https://id.example.org")
	c.Flags().StringVar(&o.OpenID.Client, "openid-client", "", "ID of the service at the OpenID provider")
	c.Flags().StringVar(&openidSecretFile, "openid-secret-file", "", "file with the secret of the service at the OpenID provider")
	c.Flags().StringVar(&o.OpenID.Label, "openid-label", "", "what people call the OpenID provider (default its host)")
	c.Flags().BoolVar(&o.OpenID.Creates, "openid-accounts", false, "give an account to everybody whom the OpenID provider names")
	var timelines, ofCase, ofPerson int64
	c.Flags().Int64Var(&timelines, "timelines-gb", 0, "gigabytes of timelines, which are built from evidence; 0 for half of the free disk")
	c.Flags().Int64Var(&ofCase, "case-gb", 0, "gigabytes of evidence and artifacts in a case; 0 for no limit")
	c.Flags().Int64Var(&ofPerson, "person-gb", 0, "gigabytes of evidence and artifacts that a person adds; 0 for no limit")
	c.PreRun = func(*cobra.Command, []string) {
		const gigabyte = 1_000_000_000
		o.Timelines, o.Quotas = timelines*gigabyte, httpapi.Quotas{Case: ofCase * gigabyte, Person: ofPerson * gigabyte}
	}
	c.Flags().DurationVar(&o.StopWithin, "stop-within", service.DefaultStopWithin, "how long requests, uploads and jobs may take to finish after SIGTERM; a second signal ends the process at once")
	c.Flags().DurationVar(&o.KeepDeleted, "keep-deleted", jobs.DefaultKept, "how long deleted evidence, artifacts and cases can be restored")
	c.AddCommand(person(&o), record(&o), &cobra.Command{
		Use: "describe", Short: "Print the OpenAPI description of the service", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			text, err := httpapi.Description()
			fmt.Println(string(text))
			return err
		},
	})
	c.AddCommand(backups(&o)...)
	return c
}

// outgoing completes the options for mail and webhooks.
func outgoing(o *service.Options, passwordFile string, webhooksTo []string) (err error) {
	if o.WebhooksTo, err = front.Networks("--webhooks-to", webhooksTo); err != nil {
		return err
	}
	if o.Mail.Server == "" {
		if o.Mail.From != "" || o.Mail.User != "" || passwordFile != "" {
			return fault.InvalidUse.New("give it with --smtp HOST:PORT", "no mail server is given")
		}
		o.Mail = mail.Options{}
		return nil
	}
	o.Mail.Password, err = secretIn(passwordFile, "the mail server")
	return err
}

// secretIn reads the secret in a file; it is empty if there is no file.
func secretIn(path, of string) (string, error) {
	if path == "" {
		return "", nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("read the secret for %s: %w", of, err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

// free reports whether an address is free to listen on.
func free(address string) bool {
	l, err := net.Listen("tcp", address)
	return err == nil && l.Close() == nil
}
