package archive

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"os"
	"time"

	"github.com/klauspost/compress/flate"

	"wraithology/core/guard"
	"wraithology/core/mask"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// Export is what an archive is made from.
type Export struct {
	Store  *store.Store
	Vault  *vault.Vault
	From   string // address of the service
	By     string // who exports the case
	Report string // HTML
	// Masked leaves out the bytes of evidence and artifacts: all that stays is masked.
	Masked bool
}

// Numbers of records that are read at once: an exhibit may have 4 MiB.
const (
	page     = 1000
	exhibits = 16
)

// Write writes the archive of a case as it is at one instant. An error leaves an archive without its directory, which nobody can read.
func (x Export) Write(ctx context.Context, caseID int64, to io.Writer) error {
	w := &writer{zip: zip.NewWriter(to), at: time.Now().UTC(), masked: x.Masked}
	w.zip.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, flate.BestSpeed) })
	identity, err := x.Store.Identity(ctx)
	if err != nil {
		return err
	}
	err = x.Store.Snapshot(ctx, func(s *store.Store) error {
		c, err := s.CaseByID(ctx, caseID)
		if err != nil {
			return err
		}
		if err := w.json(headerFile, headerOf(c, Header{Format: Format, Version: Version, From: x.From, Service: identity, By: x.By, At: w.at, Masked: x.Masked})); err != nil {
			return err
		}
		rules, err := mask.New(c.Mask)
		if err != nil {
			return err
		}
		w.rules = rules.ID()
		files, err := w.records(ctx, s, c.ID)
		if err != nil {
			return err
		}
		if err := w.file(reportFile, func(to io.Writer) error { _, err := io.WriteString(to, x.Report); return err }); err != nil {
			return err
		}
		if x.Masked {
			files = nil
		}
		for _, sum := range files {
			if err := w.bytes(ctx, x.Vault.Path(sum), filesFolder+sum); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := w.json(manifestFile, manifest{w.files}); err != nil {
		return err
	}
	if err := w.zip.Close(); err != nil {
		return fmt.Errorf("write the archive: %w", err)
	}
	return nil
}

func headerOf(c store.Case, h Header) Header {
	h.Case = Case{Name: c.Name, Title: c.Title, Created: c.CreatedAt, Closed: c.ClosedAt, Cause: c.Cause, Members: []member{}, Mask: c.Mask}
	if c.Closer != nil {
		h.Case.ClosedBy = c.Closer.Name
	}
	for _, m := range c.Members {
		h.Case.Members = append(h.Case.Members, member{m.Person.Name, m.Role})
	}
	return h
}

// writer writes the files of an archive, and lists them.
type writer struct {
	zip   *zip.Writer
	at    time.Time
	files []file
	// masked leaves out hashes of what is left out; rules are those of the case.
	masked bool
	rules  string
}

func (w *writer) file(name string, write func(io.Writer) error) error {
	to, err := w.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: w.at})
	if err != nil {
		return fmt.Errorf("write the archive: %w", err)
	}
	sum := sha256.New()
	counted := &counter{}
	if err := write(io.MultiWriter(to, sum, counted)); err != nil {
		return fmt.Errorf("write %s of the archive: %w", name, err)
	}
	w.files = append(w.files, file{name, counted.n, hex.EncodeToString(sum.Sum(nil))})
	return nil
}

type counter struct{ n int64 }

func (c *counter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	return len(b), nil
}

func (w *writer) json(name string, v any) error {
	return w.file(name, func(to io.Writer) error {
		e := json.NewEncoder(to)
		e.SetIndent("", "  ")
		return e.Encode(v)
	})
}

// bytes writes a file of the vault.
func (w *writer) bytes(ctx context.Context, path, name string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("read the vault: %w", err)
	}
	defer f.Close()
	return w.file(name, func(to io.Writer) error {
		_, err := io.Copy(to, guard.Reader(ctx, f))
		return err
	})
}

// lines writes records as JSON Lines.
func lines[T, R any](w *writer, name string, records iter.Seq2[T, error], of func(T) R) error {
	return w.file(name, func(to io.Writer) error {
		e := json.NewEncoder(to)
		for x, err := range records {
			if err != nil {
				return err
			}
			if err := e.Encode(of(x)); err != nil {
				return err
			}
		}
		return nil
	})
}

// all yields the records of a list.
func all[T any](list []T, err error) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		if err != nil {
			var none T
			yield(none, err)
			return
		}
		for _, x := range list {
			if !yield(x, nil) {
				return
			}
		}
	}
}

// pages yields records that are read in pages of a number.
func pages[T any](number int, read func(store.Page) ([]T, error), key func(T) int64) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for after := int64(0); ; {
			list, err := read(store.Page{After: after, Most: number})
			for x, err := range all(list, err) {
				if !yield(x, err) || err != nil {
					return
				}
				after = key(x)
			}
			if len(list) < number {
				return
			}
		}
	}
}

// sum is the hash of bytes that are in the archive; empty if they are left out.
func (w *writer) sum(hash string) string {
	if w.masked {
		return ""
	}
	return hash
}

// answer is that of an exhibit; one that was asked with other rules than those of the case is withheld.
func (w *writer) answer(x store.Exhibit) json.RawMessage {
	if x.MaskedBy != w.rules {
		return json.RawMessage(`{"withheld":"it was being asked again with the rules for masking when the case was exported"}`)
	}
	return json.RawMessage(x.Answer)
}

// records writes the records of a case, and returns the SHA-256 of the files that they name.
func (w *writer) records(ctx context.Context, s *store.Store, caseID int64) (files []string, err error) {
	named := map[string]bool{}
	name := func(sum string) {
		if !named[sum] {
			named[sum] = true
			files = append(files, sum)
		}
	}
	list, err := s.EvidenceOf(ctx, caseID)
	if err != nil {
		return nil, err
	}
	for _, write := range []func() error{
		func() error {
			return lines(w, evidenceFile, all(list, nil), func(e store.Evidence) evidence {
				name(e.SHA256)
				return evidence{Name: e.Name, Bytes: e.Bytes, SHA256: w.sum(e.SHA256), Uploaded: e.UploadedAt, By: e.Person.Name, ReadAs: e.ReadAs, Fields: e.Fields, ClockOffsetNs: e.ClockOffsetNs,
					Kind: e.Kind, Program: e.Program, Host: e.Host, Started: e.Started, Moments: e.Moments, Outcome: e.Outcome, Fingerprint: e.Fingerprint}
			})
		},
		func() error {
			return lines(w, artifactsFile, all(s.ArtifactsOf(ctx, caseID)), func(a store.Artifact) artifact {
				name(a.SHA256)
				return artifact{a.Name, a.Kind, a.Bytes, w.sum(a.SHA256), a.BuildID, a.UploadedAt, a.Person.Name}
			})
		},
		func() error {
			return lines(w, checkpointsFile, all(s.CheckpointsOf(ctx, caseID, store.Everybody)), func(c store.Checkpoint) checkpoint {
				return checkpoint{Number: c.ID, Kind: c.Kind, File: c.File, Line: int32(c.Line), Text: c.Text, Function: c.Function, Evidence: c.Evidence, Moment: c.Moment, Frame: int32(c.Frame), About: c.About,
					Condition: c.Condition, Nth: c.Nth, Thread: c.Thread, Listing: c.Listing, Show: c.Show, Enabled: c.Enabled, By: c.Person.Name, Created: c.CreatedAt}
			})
		},
		func() error {
			return lines(w, expectationsFile, all(s.ExpectationsOf(ctx, caseID)), func(x store.Expectation) expectation {
				return expectation{x.ID, x.Checkpoint, x.Text, x.Condition, x.That, x.Note, x.Person.Name, x.CreatedAt}
			})
		},
		func() error {
			read := func(p store.Page) ([]store.Exhibit, error) { return s.ExhibitsOf(ctx, caseID, p) }
			return lines(w, exhibitsFile, pages(exhibits, read, func(x store.Exhibit) int64 { return x.Number }), func(x store.Exhibit) exhibit {
				return exhibit{x.Number, x.Evidence.Name, x.Person.Name, x.CreatedAt, x.Question, json.RawMessage(x.Request), w.answer(x), x.Moment, x.Thread, int32(x.Frame), x.Note}
			})
		},
		func() error { return w.comments(ctx, s, caseID) },
		func() error {
			return lines(w, theoriesFile, all(s.TheoriesOf(ctx, caseID)), func(x store.Theory) theory {
				t := theory{Number: x.Number, By: x.Person.Name, Created: x.CreatedAt, Changed: x.ChangedAt, Text: x.Text, State: x.State, Note: x.Note}
				t.For, t.Against = x.Sides()
				return t
			})
		},
		func() error { return w.sittings(ctx, s, caseID) },
		func() error {
			read := func(p store.Page) ([]store.Custody, error) { return s.ActivityOf(ctx, caseID, 0, p) }
			return lines(w, custodyFile, pages(page, read, func(x store.Custody) int64 { return x.ID }), func(x store.Custody) custody { return custody{x.At, x.By, x.What} })
		},
	} {
		if err := write(); err != nil {
			return nil, err
		}
	}
	return files, nil
}

func (w *writer) comments(ctx context.Context, s *store.Store, caseID int64) error {
	var failed error
	read := func(p store.Page) ([]store.Comment, error) {
		return s.CommentsOf(ctx, caseID, store.CommentQuery{Page: p})
	}
	err := lines(w, commentsFile, pages(page, read, func(x store.Comment) int64 { return x.Number }), func(x store.Comment) comment {
		out := comment{Number: x.Number, By: x.Person.Name, Created: x.CreatedAt, Edited: x.EditedAt, Deleted: x.DeletedAt, Text: x.Text, Moment: x.Moment, Until: x.Until, Thread: x.Thread, Frame: int32(x.Frame), Path: x.Path, File: x.File, Line: int32(x.Line)}
		if x.Parent != nil {
			out.Parent = x.Parent.Number
		}
		if x.Exhibit != nil {
			out.Exhibit = x.Exhibit.Number
		}
		if x.Evidence != nil {
			out.Evidence = x.Evidence.Name
		}
		if x.EditedAt != nil {
			edits, err := s.EditsOf(ctx, x.ID)
			if err != nil {
				failed = err
			}
			for _, e := range edits {
				out.Versions = append(out.Versions, version{e.At, e.Text})
			}
		}
		return out
	})
	if err != nil {
		return err
	}
	return failed
}

func (w *writer) sittings(ctx context.Context, s *store.Store, caseID int64) error {
	sittings, err := s.SittingsOf(ctx, caseID)
	if err != nil {
		return err
	}
	err = lines(w, sittingsFile, all(sittings, nil), func(x store.Sitting) sitting {
		return sitting{x.Evidence.Name, x.Moment, x.Thread, int32(x.Frame), x.Watches, x.Columns, x.Format}
	})
	if err != nil {
		return err
	}
	every := func(yield func(store.SittingStep, error) bool) {
		for _, x := range sittings {
			for st, err := range pages(page, func(p store.Page) ([]store.SittingStep, error) { return s.StepsOf(ctx, x.ID, p) }, func(st store.SittingStep) int64 { return st.ID }) {
				if !yield(st, err) {
					return
				}
			}
		}
	}
	names := map[int64]string{}
	for _, x := range sittings {
		names[x.ID] = x.Evidence.Name
	}
	return lines(w, stepsFile, every, func(x store.SittingStep) step {
		return step{names[x.SittingID], x.Person.Name, x.At, x.Kind, x.Moment, x.Thread, int32(x.Frame), x.Text}
	})
}
