// Package receive takes data over the OpenTelemetry protocol, by HTTP and gRPC, into the cases of
// tokens. Everything acknowledged is on disk: requests are written to a spool file, together with
// concurrent ones. The file becomes evidence when the sender is quiet for a while.
package receive

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"wraithology/core/fault"
	"wraithology/service/store"
)

// Bounds of what is taken.
const (
	MaxRequest = 64 << 20 // bytes of a request, unpacked
	maxWaiting = 128 << 20
)

// Keeper makes evidence of what was received.
type Keeper interface {
	// Keep makes the contents of a file evidence of a case, on behalf of a person. If the evidence
	// exists already, it returns nil.
	Keep(ctx context.Context, caseID, personID int64, name string, read func(yield func([]byte) error) error) error
	// Requests passes the bytes of evidence that Keep made to a function, which must not keep them:
	// the requests, one after the other. It returns fault.NotFound if the evidence is gone.
	Requests(ctx context.Context, caseID int64, name string, use func([]byte) error) error
}

// Settle says when received data becomes evidence: when the senders of a case are quiet for Quiet,
// or the first request is Oldest ago, or there are Largest bytes.
type Settle struct {
	Quiet   time.Duration
	Oldest  time.Duration
	Largest int64
}

// DefaultSettle is the default.
var DefaultSettle = Settle{Quiet: 5 * time.Second, Oldest: time.Minute, Largest: 256 << 20}

// Receiver takes requests.
type Receiver struct {
	dir    string
	store  *store.Store
	keeper Keeper
	settle Settle
	log    *slog.Logger

	mu      sync.Mutex
	streams map[int64]*stream   // by case, so that traces of several senders stay whole
	pending map[int64]pending   // by case; only run uses this and parts
	parts   map[string]part     // of sealed files that are not evidence yet
	late    *late               // only run uses it
	memory  *semaphore.Weighted // of bodies that came over HTTP
	calls   *semaphore.Weighted // over gRPC
	ended   chan struct{}
	stop    context.CancelFunc
}

// Start starts receiving. Data in the folder dir that an earlier run acknowledged becomes evidence.
func Start(ctx context.Context, dir string, s *store.Store, keeper Keeper, settle Settle, log *slog.Logger) (*Receiver, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("create the folder for received data: %w", err)
	}
	late, err := newLate(filepath.Join(dir, "traces"), keeper)
	if err != nil {
		return nil, err
	}
	r := &Receiver{dir: dir, store: s, keeper: keeper, settle: settle, log: log, late: late, streams: map[int64]*stream{}, pending: map[int64]pending{}, parts: map[string]part{}, memory: semaphore.NewWeighted(bodiesInMemory), calls: semaphore.NewWeighted(callsAtOnce), ended: make(chan struct{})}
	left, err := filepath.Glob(filepath.Join(dir, "*"+openEnding))
	if err != nil {
		return nil, fmt.Errorf("find received data of an earlier run: %w", err)
	}
	for _, path := range left {
		if err := os.Rename(path, strings.TrimSuffix(path, openEnding)+sealedEnding); err != nil {
			return nil, fmt.Errorf("continue with received data of an earlier run: %w", err)
		}
	}
	ctx, r.stop = context.WithCancel(context.WithoutCancel(ctx))
	go r.run(ctx)
	return r, nil
}

// The endings of spool files: open, and sealed. Their names are CASE-PERSON-TIME.
const (
	openEnding   = ".open"
	sealedEnding = ".sealed"
)

// Stop stops receiving. Acknowledged data stays for the next start.
func (r *Receiver) Stop() error {
	r.stop()
	<-r.ended
	r.mu.Lock()
	defer r.mu.Unlock()
	var errs []error
	for _, s := range r.streams {
		errs = append(errs, s.close())
	}
	return errors.Join(errs...)
}

// Sender finds who sends with a token.
func (r *Receiver) Sender(ctx context.Context, header string) (store.Sender, error) {
	secret, ok := strings.CutPrefix(header, "Bearer ")
	if !ok || secret == "" {
		return store.Sender{}, fmt.Errorf("%w: send it as the header authorization: Bearer TOKEN", fault.UnknownToken)
	}
	hash := sha256.Sum256([]byte(secret))
	s, err := r.store.SenderByToken(ctx, hash[:])
	if errors.Is(err, fault.NotFound) {
		if _, _, personErr := r.store.PersonByToken(ctx, hash[:]); personErr == nil {
			return s, fault.PermissionDenied.New("wraith sender CASE makes a token that may send", "permission denied: the token may not send")
		}
		return s, fault.UnknownToken
	}
	return s, err
}

// Take writes a checked request to disk.
func (r *Receiver) Take(ctx context.Context, from store.Sender, request []byte) error {
	return r.stream(from.CaseID).take(ctx, from.PersonID, request, maxWaiting)
}

func (r *Receiver) stream(caseID int64) *stream {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.streams[caseID]
	if s == nil {
		s = newStream(r.dir, caseID)
		r.streams[caseID] = s
	}
	return s
}

// run seals settled files and makes evidence of sealed ones.
func (r *Receiver) run(ctx context.Context) {
	defer close(r.ended)
	const often = 250 * time.Millisecond
	tick := time.NewTicker(min(often, max(r.settle.Quiet/2, time.Millisecond)))
	defer tick.Stop()
	for {
		if err := r.keepSealed(ctx); err != nil && ctx.Err() == nil {
			r.log.ErrorContext(ctx, "what was received could not be made evidence; it is tried again", "error", err)
			select { // what keeps it from working takes a while
			case <-time.After(time.Second):
			case <-ctx.Done():
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		r.mu.Lock()
		list := make([]*stream, 0, len(r.streams))
		for _, s := range r.streams {
			list = append(list, s)
		}
		r.mu.Unlock()
		for _, s := range list {
			if err := s.settle(r.settle); err != nil {
				r.log.ErrorContext(ctx, "a spool file could not be sealed", "error", err)
			}
		}
	}
}

// keepSealed makes evidence of all sealed files, oldest first.
func (r *Receiver) keepSealed(ctx context.Context) error {
	list, err := filepath.Glob(filepath.Join(r.dir, "*"+sealedEnding)) // in the order of their names
	if err != nil {
		return fmt.Errorf("find sealed files: %w", err)
	}
	var errs []error
	for _, path := range list {
		if ctx.Err() != nil {
			break
		}
		if err := r.keep(ctx, path); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

func (r *Receiver) keep(ctx context.Context, path string) error {
	caseID, personID, when, err := spoolName(path)
	if err != nil {
		return err
	}
	if err := r.store.HasCase(ctx, caseID); errors.Is(err, fault.NotFound) {
		r.log.WarnContext(ctx, "what was received belongs to a case that is gone; it is removed", "file", path)
		return os.Remove(path)
	} else if err != nil {
		return err
	}
	if info, err := os.Stat(path); err != nil || info.Size() == 0 {
		return errors.Join(err, os.Remove(path))
	}
	name := evidenceName(when)
	p, err := r.parted(ctx, caseID, personID, when, path)
	if err == nil && p.stays {
		if err = r.keeper.Keep(ctx, caseID, personID, name, p.rest); err == nil {
			err = r.late.remember(caseID, name, p.traces)
		}
	}
	if err != nil {
		return fmt.Errorf("keep %s: %w", name, err)
	}
	r.pending[caseID] = p.pending
	delete(r.parts, path)
	return os.Remove(path)
}

// evidenceName is the name of the evidence that a spool file of that time becomes.
func evidenceName(when string) string { return "received-" + when }

// spoolName reads the name of a spool file.
func spoolName(path string) (caseID, personID int64, when string, err error) {
	part := strings.SplitN(strings.TrimSuffix(filepath.Base(path), sealedEnding), "-", 3)
	if len(part) == 3 {
		caseID, err = strconv.ParseInt(part[0], 10, 64)
		if err == nil {
			personID, err = strconv.ParseInt(part[1], 10, 64)
		}
		when = part[2]
	}
	if len(part) != 3 || err != nil {
		return 0, 0, "", fmt.Errorf("%s: unexpected file in the spool folder: move it elsewhere", path)
	}
	return caseID, personID, when, nil
}
