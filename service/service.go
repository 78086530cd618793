// Package service assembles and runs the parts of wraithd.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"google.golang.org/grpc"

	"wraithology/console"
	"wraithology/core/fault"
	"wraithology/service/accounts"
	"wraithology/service/backup"
	"wraithology/service/cluster"
	"wraithology/service/custody"
	"wraithology/service/front"
	"wraithology/service/hooks"
	"wraithology/service/httpapi"
	"wraithology/service/jobs"
	"wraithology/service/mail"
	"wraithology/service/notices"
	"wraithology/service/openid"
	"wraithology/service/receive"
	"wraithology/service/recordings"
	"wraithology/service/sittings"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// Options are the data folder and the addresses of the service. Without a database it runs a
// private one in the data folder.
type Options struct {
	Data     string
	Listen   string
	GRPC     string // address for OTLP over gRPC; empty for none
	Settle   receive.Settle
	Database string
	Log      *slog.Logger
	// Mail is the server that takes mail; without one the service sends none.
	Mail mail.Options
	// Address is that of the service in mails and webhooks; that on which it listens if it is empty.
	Address string
	// MailEvery is the time between two mails, or requests, to one receiver about a case; 0 for notices.DefaultEvery.
	MailEvery time.Duration
	// WebhooksTo are the private networks to which webhooks may be sent.
	WebhooksTo []netip.Prefix
	// Timelines limits the bytes of timelines; 0 for half of the disk that is free without them.
	Timelines int64
	// Quotas limit what people keep.
	Quotas httpapi.Quotas
	// Front is how the service is reached.
	Front front.Front
	// OpenID is the provider by which people sign in, besides by passwords.
	OpenID openid.Options
	// StopWithin is how long requests, uploads and jobs may take to finish when the service stops; 0 for DefaultStopWithin.
	StopWithin time.Duration
	// KeepDeleted is how long what is deleted can be restored; 0 for jobs.DefaultKept.
	KeepDeleted time.Duration
}

// Service is a running service.
type Service struct {
	URL      string
	GRPC     string // address of OTLP over gRPC; empty without it
	Accounts *accounts.Accounts

	lock    io.Closer // of the data folder
	cluster *cluster.Cluster
	store   *store.Store
	jobs    *jobs.Jobs
	http    *http.Server
	grpc    *grpc.Server
	receive *receive.Receiver
	book    *custody.Book
	// endBook ends its rounds; bookEnded is closed when the last one is over.
	endBook   context.CancelFunc
	bookEnded chan struct{}
	served    chan error
	within    time.Duration // to stop
	// endStreams ends the streams of events, stop all requests.
	endStreams, stop context.CancelFunc
}

// WithStore calls do with the records of a service, whether it runs or not.
func WithStore(ctx context.Context, o Options, do func(*store.Store) error) error {
	// No service can start on a database that ends with this process.
	lock, err := lockData(o.Data, 0)
	if err == nil {
		defer lock.Close()
	} else if !errors.Is(err, fault.DataInUse) {
		return err
	}
	s, c, err := openStore(ctx, o)
	if err != nil {
		return err
	}
	err = do(s)
	s.Close()
	if c != nil {
		err = errors.Join(err, c.Stop())
	}
	return err
}

// Backup writes all that a service has into a new file, whether it runs or not.
func Backup(ctx context.Context, o Options, path string) (h backup.Header, err error) {
	err = WithStore(ctx, o, func(s *store.Store) error {
		if _, err := s.Identity(ctx); err != nil {
			return err
		}
		version, err := s.ServerVersion(ctx)
		if err != nil {
			return err
		}
		programs, err := cluster.Programs(version)
		if err != nil {
			return err
		}
		h, err = backup.Write(ctx, backup.Source{Data: o.Data, Database: s.Pool.Config().ConnString(), Programs: programs}, path)
		return err
	})
	return h, err
}

// Restore makes a new data folder of a backup, and fills the database: an empty one, or a private one.
func Restore(ctx context.Context, o Options, path string) (h backup.Header, err error) {
	b, err := backup.Open(ctx, path)
	if err != nil {
		return h, err
	}
	defer func() { err = errors.Join(err, b.Close()) }()
	if entries, err := os.ReadDir(o.Data); err == nil && len(entries) > 0 {
		return h, fault.InvalidUse.New("give a new folder with --data", "%s is not empty", o.Data)
	}
	lock, err := lockData(o.Data, 0)
	if err != nil {
		return h, err
	}
	defer func() { err = errors.Join(err, lock.Close()) }()
	url := o.Database
	if url == "" {
		c, err := cluster.Open(ctx, filepath.Join(o.Data, "database"), o.Log)
		if err != nil {
			return h, err
		}
		defer func() { err = errors.Join(err, c.Stop()) }()
		url = c.URL
	}
	programs, err := cluster.Programs("") // newer ones read what older ones wrote
	if err != nil {
		return h, err
	}
	if err := b.Database(ctx, backup.Source{Database: url, Programs: programs}); err != nil {
		return h, fmt.Errorf("fill the database, which must be empty: %w", err)
	}
	return b.Header, b.Files(ctx, o.Data)
}

// openStore opens the given database, or the private one.
func openStore(ctx context.Context, o Options) (*store.Store, *cluster.Cluster, error) {
	url := o.Database
	var c *cluster.Cluster
	if url == "" {
		var err error
		if c, err = cluster.Open(ctx, filepath.Join(o.Data, "database"), o.Log); err != nil {
			return nil, nil, err
		}
		url = c.URL
	}
	s, err := store.Open(ctx, url, o.Log)
	if err != nil && c != nil {
		err = errors.Join(err, c.Stop())
	}
	return s, c, err
}

// Start starts the service. It serves until Stop.
func Start(ctx context.Context, o Options) (*Service, error) {
	lock, err := lockData(o.Data, lockWait)
	if err != nil {
		return nil, err
	}
	if err := o.Front.Check(); err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	if err := o.OpenID.Check(); err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	s := &Service{served: make(chan error, 2), lock: lock, within: cmp.Or(o.StopWithin, DefaultStopWithin)}
	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		lock.Close()
		return nil, fmt.Errorf("listen on %s: %w: another program may use it, choose one with --listen", o.Listen, err)
	}
	s.URL = "http://" + listener.Addr().String()
	secure := o.Front.TLS()
	if secure != nil {
		s.URL = "https://" + listener.Addr().String()
	}
	if err := s.open(ctx, o); err != nil {
		listener.Close()
		return nil, errors.Join(err, s.Stop(context.WithoutCancel(ctx)))
	}
	if secure != nil {
		s.http.TLSConfig = secure
		go func() { s.served <- s.http.ServeTLS(listener, "", "") }()
	} else {
		go func() { s.served <- s.http.Serve(listener) }()
	}
	if o.GRPC != "" {
		if err := s.serveGRPC(o.GRPC); err != nil {
			return nil, errors.Join(err, s.Stop(context.WithoutCancel(ctx)))
		}
	}
	return s, nil
}

// serveGRPC receives OTLP over gRPC.
func (s *Service) serveGRPC(address string) error {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("listen on %s for OTLP over gRPC: %w: another program may use it, choose one with --grpc, or --grpc off", address, err)
	}
	s.GRPC = listener.Addr().String()
	s.grpc = s.receive.Server()
	go func() {
		if err := s.grpc.Serve(listener); err != nil {
			s.served <- err
		}
	}()
	return nil
}

func (s *Service) open(ctx context.Context, o Options) (err error) {
	if s.store, s.cluster, err = openStore(ctx, o); err != nil {
		return err
	}
	v, err := vault.Open(filepath.Join(o.Data, "vault"))
	if err != nil {
		return err
	}
	reads, err := s.openBook(ctx, o)
	if err != nil {
		return err
	}
	open := recordings.New(o.Data, o.Timelines, s.store, v)
	board, err := s.board(o)
	if err != nil {
		return err
	}
	if s.jobs, err = jobs.Start(ctx, s.store, v, open, board, cmp.Or(o.KeepDeleted, jobs.DefaultKept), o.Log); err != nil {
		return err
	}
	if o.Settle == (receive.Settle{}) {
		o.Settle = receive.DefaultSettle
	}
	if s.receive, err = receive.Start(ctx, filepath.Join(o.Data, "received"), s.store, receive.Vaulted{Store: s.store, Vault: v, Jobs: s.jobs}, o.Settle, o.Log); err != nil {
		return err
	}
	s.Accounts = accounts.New(s.store, o.Front)
	base, stop := context.WithCancel(context.WithoutCancel(ctx))
	ending, endStreams := context.WithCancel(base)
	s.stop, s.endStreams = stop, endStreams
	handler, err := httpapi.New(httpapi.Parts{Store: s.store, Accounts: s.Accounts, Vault: v, Recordings: open, Jobs: s.jobs, Board: board,
		Sittings: sittings.New(s.store), Receiver: s.receive, Console: console.Files(), Log: o.Log, Trouble: s.trouble, Ending: ending, Front: o.Front, Book: s.book, Reads: reads, OpenID: openid.New(o.OpenID), Quotas: o.Quotas})
	if err != nil {
		return err
	}
	s.http = &http.Server{
		Handler:           handler,
		ReadHeaderTimeout: 10 * time.Second,
		BaseContext:       func(net.Listener) context.Context { return base },
		ErrorLog:          slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn),
	}
	return nil
}

// CustodyFolder is the folder of the key with which records are signed, and of what was signed, in the data folder.
const CustodyFolder = "custody"

// openBook opens the book in which records are signed, and starts its rounds.
func (s *Service) openBook(ctx context.Context, o Options) (*custody.Reads, error) {
	identity, err := s.store.Identity(ctx)
	if err != nil {
		return nil, err
	}
	if s.book, err = custody.Open(filepath.Join(o.Data, CustodyFolder), identity); err != nil {
		return nil, err
	}
	reads := custody.NewReads()
	rounds, end := context.WithCancel(context.WithoutCancel(ctx))
	s.endBook, s.bookEnded = end, make(chan struct{})
	go func() {
		defer close(s.bookEnded)
		s.book.Run(rounds, s.store, reads, o.Log)
	}()
	return reads, nil
}

// trouble says what is known against the database; empty for nothing.
func (s *Service) trouble() string {
	if s.cluster == nil {
		return ""
	}
	return s.cluster.Trouble()
}

// board tells people and programs what happens.
func (s *Service) board(o Options) (*notices.Board, error) {
	if o.Address == "" {
		o.Address = s.URL
	}
	to := notices.Options{Hooks: hooks.New(o.WebhooksTo), Address: o.Address, Every: o.MailEvery}
	if o.Mail != (mail.Options{}) {
		var err error
		if to.Mail, err = mail.New(o.Mail); err != nil {
			return nil, err
		}
	}
	return notices.New(s.store, to), nil
}

// Served is told when serving ends.
func (s *Service) Served() <-chan error { return s.served }

// DefaultStopWithin is how long requests, uploads and jobs may take to finish when the service stops.
const DefaultStopWithin = 20 * time.Second

// Stop stops the service: first new requests, by HTTP and gRPC alike, then running requests, which have Options.StopWithin for that, the queue, the
// connections and the private database.
func (s *Service) Stop(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, s.within)
	defer cancel()
	errs := []error{s.stopServing(ctx)}
	if s.receive != nil {
		errs = append(errs, s.receive.Stop())
	}
	if s.jobs != nil {
		errs = append(errs, s.jobs.Stop(ctx))
	}
	if s.endBook != nil { // what was read, and changed, until now
		s.endBook()
		<-s.bookEnded
		errs = append(errs, s.book.Close())
	}
	if s.store != nil {
		s.store.Close()
	}
	if s.cluster != nil {
		errs = append(errs, s.cluster.Stop())
	}
	errs = append(errs, s.lock.Close())
	return errors.Join(errs...)
}

// stopServing ends when no request runs any more. Those that run when ctx ends are cut off.
func (s *Service) stopServing(ctx context.Context) error {
	received := make(chan struct{})
	go func() {
		defer close(received)
		if s.grpc == nil {
			return
		}
		done := context.AfterFunc(ctx, s.grpc.Stop)
		s.grpc.GracefulStop()
		done()
	}()
	defer func() { <-received }()
	if s.http == nil {
		return nil
	}
	defer s.stop()
	s.endStreams()
	err := s.http.Shutdown(ctx)
	if err == nil {
		return nil
	}
	s.stop() // whoever is still at it hears that it was cut off
	return errors.Join(fmt.Errorf("requests were cut off: %w", err), s.http.Close())
}
