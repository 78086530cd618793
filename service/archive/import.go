package archive

import (
	"archive/zip"
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/mask"
	"wraithology/service/store"
	"wraithology/service/vault"
	"wraithology/service/wellformed"
)

// Limits of an archive that is read.
const (
	mostFiles = 100_000
	mostLine  = 16 << 20 // bytes of a record
	mostName  = 200      // bytes of the name of a person
	batch     = 500      // records that are added at once
)

// Import is where an archive is read into.
type Import struct {
	Store *store.Store
	Vault *vault.Vault
	By    store.Person // who imports it, and leads the case then
}

var (
	itemName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,127}$`)
	caseName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
	sumText  = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

func invalid(format string, args ...any) error { return fault.InvalidArchive.New("", format, args...) }

// Read reads an archive and makes a case of it, named as the one of the archive unless another name is given. It is verified as a whole first; then
// the bytes go into the vault, and then all records are added together. It returns the case and the evidence, which is to be indexed.
// The words and deeds of the archive's people belong to people who are named after their service, and cannot sign in: an archive is not signed,
// and nobody here gets words that are not theirs.
func (x Import) Read(ctx context.Context, f *os.File, name string) (c store.Case, added []store.Evidence, err error) {
	r, err := open(f)
	if err != nil {
		return c, nil, err
	}
	files, err := verify(ctx, r)
	if err != nil {
		return c, nil, err
	}
	h, err := header(files)
	if err != nil {
		return c, nil, err
	}
	if name = cmp.Or(name, h.Case.Name); !caseName.MatchString(name) {
		return c, nil, fault.InvalidName.New("use up to 63 small letters, digits and hyphens, a letter or digit first", "invalid name %q of a case", fmt.Sprintf("%.80s", name))
	}
	if _, _, err := x.Store.CaseFor(ctx, name, x.By.ID); err == nil {
		return c, nil, fmt.Errorf("case %s: %w: give another name for the import", name, fault.Exists)
	}
	if err := x.keep(ctx, files); err != nil {
		return c, nil, err
	}
	err = x.Store.Together(ctx, func(s *store.Store) error {
		in := &importing{store: s, files: files, header: h, people: map[string]int64{}, evidence: map[string]int64{}, exhibits: map[int64]int64{}, comments: map[int64]int64{}, sittings: map[string]int64{}}
		if err := in.all(ctx, name, x.By); err != nil {
			return err
		}
		c, added = in.of, in.added
		return nil
	})
	if store.IsInvalid(err) && !errors.Is(err, fault.Exists) {
		err = invalid("a record of the archive cannot be stored: %w", err)
	}
	return c, added, err
}

// Signatures and sizes of the end of a ZIP file (PKWARE APPNOTE 6.3.10, sections 4.3.14 to 4.3.16).
const (
	endBytes     = 22
	locatorBytes = 20
	endSign      = 0x06054b50
	locatorSign  = 0x07064b50
	end64Sign    = 0x06064b50
)

// open opens a ZIP file after it has looked at the number of its files: the directory is read as a whole.
func open(f *os.File) (*zip.Reader, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, fmt.Errorf("read the archive: %w", err)
	}
	n, err := entries(f, info.Size())
	if err != nil {
		return nil, err
	}
	if n > mostFiles {
		return nil, invalid("the archive has %d files; at most %d are read", n, mostFiles)
	}
	r, err := zip.NewReader(f, info.Size())
	if err != nil {
		return nil, invalid("the archive is damaged or not complete: %w", err)
	}
	if uint64(len(r.File)) != n {
		return nil, invalid("the archive is damaged: its directory has %d files, its end says %d", len(r.File), n)
	}
	return r, nil
}

// entries returns the number of files that the end of a ZIP file without a comment states.
func entries(f io.ReaderAt, size int64) (uint64, error) {
	read := func(at int64, n int, sign uint32) ([]byte, error) {
		b := make([]byte, n)
		if at < 0 {
			return nil, invalid("the archive is damaged or not complete: it has %d bytes", size)
		}
		if _, err := f.ReadAt(b, at); err != nil {
			return nil, fmt.Errorf("read the archive: %w", err)
		}
		if binary.LittleEndian.Uint32(b) != sign {
			return nil, invalid("the file is not an archive of a case, or it is not complete: its directory is missing")
		}
		return b, nil
	}
	end, err := read(size-endBytes, endBytes, endSign)
	if err != nil {
		return 0, err
	}
	n := uint64(binary.LittleEndian.Uint16(end[10:]))
	if n != 0xffff {
		return n, nil
	}
	locator, err := read(size-endBytes-locatorBytes, locatorBytes, locatorSign)
	if err != nil {
		return 0, err
	}
	at := binary.LittleEndian.Uint64(locator[8:])
	if at > uint64(size) {
		return 0, invalid("the archive is damaged: its directory is outside of it")
	}
	end64, err := read(int64(at), 40, end64Sign)
	if err != nil {
		return 0, err
	}
	return binary.LittleEndian.Uint64(end64[32:]), nil
}

// verify compares every file of an archive with its manifest.
func verify(ctx context.Context, r *zip.Reader) (map[string]*zip.File, error) {
	files := map[string]*zip.File{}
	for _, f := range r.File {
		if files[f.Name] != nil {
			return nil, invalid("the archive has %.100q twice", f.Name)
		}
		files[f.Name] = f
	}
	list := files[manifestFile]
	if list == nil {
		return nil, invalid("the archive has no %s", manifestFile)
	}
	var m manifest
	if err := readJSON(list, 64<<20, &m); err != nil {
		return nil, err
	}
	listed := map[string]bool{manifestFile: true}
	for _, want := range m.Files {
		f := files[want.Name]
		if f == nil || listed[want.Name] {
			return nil, invalid("%.100q of the manifest is missing from the archive, or listed twice", want.Name)
		}
		listed[want.Name] = true
		if err := matches(ctx, f, want); err != nil {
			return nil, err
		}
		if sum, ok := strings.CutPrefix(want.Name, filesFolder); ok && sum != want.SHA256 {
			return nil, invalid("%.100q is not named after its content", want.Name)
		}
	}
	for name := range files {
		if !listed[name] {
			return nil, invalid("%.100q is in the archive, but not in its manifest", name)
		}
	}
	for _, name := range []string{headerFile, evidenceFile, artifactsFile, checkpointsFile, expectationsFile, exhibitsFile, commentsFile, theoriesFile, sittingsFile, stepsFile, custodyFile} {
		if files[name] == nil {
			return nil, invalid("the archive has no %s", name)
		}
	}
	return files, nil
}

// matches reads a file, which must be what the manifest says.
func matches(ctx context.Context, f *zip.File, want file) error {
	in, err := f.Open()
	if err != nil {
		return invalid("%.100q of the archive cannot be read: %w", f.Name, err)
	}
	defer in.Close()
	sum := sha256.New()
	// One byte more than it says is enough to see that it is wrong: what unpacks without end is not unpacked.
	n, err := io.Copy(sum, io.LimitReader(guard.Reader(ctx, in), max(want.Bytes, 0)+1))
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return invalid("%.100q of the archive is damaged: %w", f.Name, err)
	case n != want.Bytes || hex.EncodeToString(sum.Sum(nil)) != want.SHA256:
		return invalid("%.100q of the archive is not what its manifest says: it was changed or damaged", f.Name)
	}
	return nil
}

func readJSON(f *zip.File, most int64, into any) error {
	in, err := f.Open()
	if err != nil {
		return invalid("%s of the archive cannot be read: %w", f.Name, err)
	}
	defer in.Close()
	if err := json.NewDecoder(io.LimitReader(in, most)).Decode(into); err != nil {
		return invalid("%s of the archive cannot be read: %w", f.Name, err)
	}
	return wellformed.CheckStorable(into)
}

func header(files map[string]*zip.File) (h Header, err error) {
	if err := readJSON(files[headerFile], mostLine, &h); err != nil {
		return h, err
	}
	switch {
	case h.Format != Format:
		return h, invalid("the archive is %.80q, and not %q", h.Format, Format)
	case h.Version > Version:
		return h, fault.InvalidArchive.New("update this service", "the archive has version %d, this service reads up to %d", h.Version, Version)
	case h.Version < 1:
		return h, invalid("the archive has version %d", h.Version)
	case h.Service == "" || len(h.Service) > mostName || len(h.From) > mostName:
		return h, invalid("the archive does not say which service it is from")
	}
	return h, nil
}

// keep puts the bytes of an archive into the vault.
func (x Import) keep(ctx context.Context, files map[string]*zip.File) error {
	for name, f := range files {
		sum, ok := strings.CutPrefix(name, filesFolder)
		if !ok {
			continue
		}
		in, err := f.Open()
		if err != nil {
			return invalid("%s of the archive cannot be read: %w", name, err)
		}
		kept, err := x.Vault.Put(ctx, in)
		in.Close()
		if err != nil {
			return err
		}
		if kept.SHA256 != sum {
			return invalid("%s of the archive has changed while it was read", name)
		}
	}
	return nil
}

// importing adds the records of an archive. The maps have the IDs of what was added, by name or number.
type importing struct {
	store  *store.Store
	files  map[string]*zip.File
	header Header
	of     store.Case
	added  []store.Evidence

	people   map[string]int64
	evidence map[string]int64
	exhibits map[int64]int64
	comments map[int64]int64
	sittings map[string]int64
	renamed  []string // what has another number here
	maskedBy string   // the rules with which the exhibits were asked; empty if that is not sure
}

func (in *importing) all(ctx context.Context, name string, by store.Person) error {
	for _, add := range []func(context.Context) error{
		func(ctx context.Context) error { return in.begin(ctx, name, by) },
		in.addEvidence, in.addArtifacts, in.addCheckpoints, in.addExpectations, in.addExhibits, in.addComments, in.addTheories, in.addSittings, in.addSteps, in.addCustody,
	} {
		if err := add(ctx); err != nil {
			return err
		}
	}
	if err := in.store.SetNumbers(ctx, in.of.ID); err != nil {
		return err
	}
	what := fmt.Sprintf("imported the case %s, which %s exported from %s on %s", in.header.Case.Name, in.header.By, in.header.From, in.header.At.UTC().Format(time.RFC3339))
	if len(in.renamed) > 0 {
		what += "; numbers here: " + strings.Join(in.renamed, ", ")
	}
	return in.store.Note(ctx, in.of.ID, by.ID, what)
}

// person returns the ID of a person of the archive.
func (in *importing) person(ctx context.Context, name string) (int64, error) {
	if id, ok := in.people[name]; ok {
		return id, nil
	}
	if name == "" || len(name) > mostName || !utf8.ValidString(name) {
		return 0, invalid("the archive has a person with the name %.80q", name)
	}
	foreign := name
	if !strings.HasSuffix(name, ")") { // else the person came to that service with another archive
		host := in.header.From
		if u, err := url.Parse(in.header.From); err == nil && u.Host != "" {
			host = u.Host
		}
		foreign = fmt.Sprintf("%s (%s)", name, host)
	}
	p, err := in.store.Foreigner(ctx, foreign, in.header.Service)
	if err != nil { // somebody of another service has the name
		p, err = in.store.Foreigner(ctx, fmt.Sprintf("%s (%.10s)", name, in.header.Service), in.header.Service)
	}
	if err != nil {
		return 0, err
	}
	in.people[name] = p.ID
	return p.ID, nil
}

func (in *importing) begin(ctx context.Context, name string, by store.Person) error {
	of := in.header.Case
	c := store.Case{Name: name, Title: of.Title, Cause: of.Cause, ClosedAt: of.Closed}
	if of.ClosedBy != "" {
		closer, err := in.person(ctx, of.ClosedBy)
		if err != nil {
			return err
		}
		c.CloserID = &closer
	}
	if err := in.store.AddCase(ctx, &c, by.ID); err != nil {
		return err
	}
	if err := in.store.SetOpened(ctx, c.ID, of.Created); err != nil {
		return err
	}
	in.of = c
	if err := in.mask(ctx); err != nil {
		return err
	}
	seen := map[int64]bool{}
	for _, m := range of.Members {
		id, err := in.person(ctx, m.Name)
		if err != nil {
			return err
		}
		if !slices.Contains([]string{api.RoleLead, api.RoleMember, api.RoleViewer}, m.Role) || seen[id] {
			return invalid("the archive has the member %.80q twice, or with the role %.80q", m.Name, m.Role)
		}
		seen[id] = true
		if err := in.store.RestoreMember(ctx, store.Member{CaseID: c.ID, PersonID: id, Role: m.Role}); err != nil {
			return err
		}
	}
	return nil
}

// restore reads records of a file, converts them, and adds them in batches; then added is called with those of each batch.
func restore[R, T any](ctx context.Context, in *importing, name string, convert func(R) (T, error), added func(records []R, list []T) error) error {
	return inBatches(in, name, convert, func(records []R, list []T) error {
		if err := store.Restore(ctx, in.store, list, name); errors.Is(err, fault.Exists) {
			return invalid("%s of the archive has a name or number twice", name)
		} else if err != nil || added == nil {
			return err
		}
		return added(records, list)
	})
}

// inBatches reads records of a file, converts them, and calls add with those of each batch.
func inBatches[R, T any](in *importing, name string, convert func(R) (T, error), add func(records []R, list []T) error) error {
	f, err := in.files[name].Open()
	if err != nil {
		return invalid("%s of the archive cannot be read: %w", name, err)
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, mostLine)
	var records []R
	var list []T
	flush := func() error {
		if err := add(records, list); err != nil {
			return err
		}
		records, list = nil, nil
		return nil
	}
	size := 0
	for n := 1; lines.Scan(); n++ {
		var r R
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil {
			return invalid("line %d of %s cannot be read: %w", n, name, err)
		}
		if err := wellformed.CheckStorable(&r); err != nil {
			return invalid("line %d of %s: %w", n, name, err)
		}
		x, err := convert(r)
		if err != nil {
			return fmt.Errorf("line %d of %s: %w", n, name, err)
		}
		records, list = append(records, r), append(list, x)
		if size += len(lines.Bytes()); len(list) == batch || size > mostLine {
			if err := flush(); err != nil {
				return err
			}
			size = 0
		}
	}
	if err := lines.Err(); err != nil {
		return invalid("%s of the archive cannot be read: %w", name, err)
	}
	return flush()
}

// mask gives the case the rules of the archive. Exhibits of a masked archive were asked with them; those of another one are asked again, because an
// archive can have been changed.
func (in *importing) mask(ctx context.Context) error {
	rules, err := mask.New(in.header.Case.Mask)
	if err != nil {
		return invalid("the rules for masking: %w", err)
	}
	if in.header.Masked {
		in.maskedBy = rules.ID()
	}
	in.of.Mask = in.header.Case.Mask
	_, err = in.store.SetMask(ctx, in.of.ID, in.header.Case.Mask)
	return err
}

// idOf returns the ID of evidence of the archive; nil for none.
func (in *importing) idOf(name string) (*int64, error) {
	if name == "" {
		return nil, nil
	}
	id, ok := in.evidence[name]
	if !ok {
		return nil, invalid("there is no evidence %.80q", name)
	}
	return &id, nil
}

// stored verifies that the archive has the bytes of an item, and that its name is one.
func (in *importing) stored(name, sum string, n int64) error {
	if !itemName.MatchString(name) {
		return invalid("invalid name %.140q", name)
	}
	if in.header.Masked {
		return nil
	}
	if !sumText.MatchString(sum) || in.files[filesFolder+sum] == nil || in.files[filesFolder+sum].UncompressedSize64 != uint64(n) {
		return invalid("the bytes of %s are missing from the archive", name)
	}
	return nil
}

func (in *importing) addEvidence(ctx context.Context) error {
	return restore(ctx, in, evidenceFile, func(r evidence) (x store.Evidence, err error) {
		if err := in.stored(r.Name, r.SHA256, r.Bytes); err != nil {
			return x, err
		}
		by, err := in.person(ctx, r.By)
		x = store.Evidence{CaseID: in.of.ID, Name: r.Name, Bytes: r.Bytes, SHA256: r.SHA256, UploadedAt: r.Uploaded, PersonID: by, State: api.StateIndexing, Started: time.Unix(0, 0).UTC(), ReadAs: r.ReadAs, Fields: r.Fields, ClockOffsetNs: r.ClockOffsetNs, IsImported: true}
		if in.header.Masked { // the hash says nothing either: this service may have bytes that the person may not see
			x.SHA256, x.State, x.Outcome, x.Trouble = "", api.StateFailed, "was left out", fault.NoBytes.Error()
		}
		return x, err
	}, func(_ []evidence, list []store.Evidence) error {
		for _, e := range list {
			in.evidence[e.Name] = e.ID
		}
		if !in.header.Masked {
			in.added = append(in.added, list...)
		}
		return nil
	})
}

func (in *importing) addArtifacts(ctx context.Context) error {
	return restore(ctx, in, artifactsFile, func(r artifact) (x store.Artifact, err error) {
		if err := in.stored(r.Name, r.SHA256, r.Bytes); err != nil {
			return x, err
		}
		by, err := in.person(ctx, r.By)
		if in.header.Masked {
			r.SHA256 = ""
		}
		return store.Artifact{CaseID: in.of.ID, Name: r.Name, Kind: r.Kind, Bytes: r.Bytes, SHA256: r.SHA256, BuildID: r.BuildID, UploadedAt: r.Uploaded, PersonID: by}, err
	}, nil)
}

func (in *importing) addCheckpoints(ctx context.Context) error {
	return restore(ctx, in, checkpointsFile, func(r checkpoint) (x store.Checkpoint, err error) {
		if _, err := in.idOf(r.Evidence); err != nil {
			return x, err
		}
		if err := ask.CheckExpressions(r.Condition, r.Nth, r.Show); err != nil {
			return x, err
		}
		by, err := in.person(ctx, r.By)
		return store.Checkpoint{CaseID: in.of.ID, File: r.File, Line: int(r.Line), Text: r.Text, Kind: r.Kind, Function: r.Function, Evidence: r.Evidence, Moment: r.Moment, Frame: int(r.Frame), About: r.About, Condition: r.Condition,
			Nth: r.Nth, Thread: r.Thread, Listing: r.Listing, Show: append([]string{}, r.Show...), Enabled: r.Enabled, Version: 1, PersonID: by, CreatedAt: r.Created}, err
	}, func(records []checkpoint, list []store.Checkpoint) error {
		for i, x := range list {
			in.renumbered("checkpoint", records[i].Number, x.ID)
		}
		return nil
	})
}

// mostRenumbered limits the numbers that are said in the record.
const mostRenumbered = 200

// renumbered notes that something has another number than in the archive, whose record names it by that.
func (in *importing) renumbered(what string, before, now int64) {
	switch n := len(in.renamed); {
	case before == now:
	case n < mostRenumbered:
		in.renamed = append(in.renamed, fmt.Sprintf("%s %d is %d", what, before, now))
	case n == mostRenumbered:
		in.renamed = append(in.renamed, "and more")
	}
}

func (in *importing) addExpectations(ctx context.Context) error {
	return restore(ctx, in, expectationsFile, func(r expectation) (x store.Expectation, err error) {
		by, err := in.person(ctx, r.By)
		return store.Expectation{CaseID: in.of.ID, Checkpoint: r.Checkpoint, Text: r.Text, Condition: r.Condition, That: r.That, Note: r.Note, Version: 1, PersonID: by, CreatedAt: r.Created}, err
	}, func(records []expectation, list []store.Expectation) error {
		for i, x := range list {
			in.renumbered("expectation", records[i].Number, x.ID)
		}
		return nil
	})
}

func (in *importing) addExhibits(ctx context.Context) error {
	return restore(ctx, in, exhibitsFile, func(r exhibit) (x store.Exhibit, err error) {
		of, err := in.idOf(r.Evidence)
		if err == nil && (of == nil || r.Number < 1) {
			err = invalid("an exhibit of no evidence, or with the number %d", r.Number)
		}
		if err != nil {
			return x, err
		}
		by, err := in.person(ctx, r.By)
		return store.Exhibit{CaseID: in.of.ID, Number: r.Number, EvidenceID: *of, PersonID: by, CreatedAt: r.Created, Question: r.Question, Request: string(r.Request), Answer: string(r.Answer), Moment: r.Moment, Thread: r.Thread, Frame: int(r.Frame), Note: r.Note, MaskedBy: in.maskedBy}, err
	}, func(_ []exhibit, list []store.Exhibit) error {
		for _, x := range list {
			in.exhibits[x.Number] = x.ID
		}
		return nil
	})
}

func (in *importing) addComments(ctx context.Context) error {
	answers := map[int64]int64{} // parents by number
	err := restore(ctx, in, commentsFile, func(r comment) (x store.Comment, err error) {
		if x.EvidenceID, err = in.idOf(r.Evidence); err != nil {
			return x, err
		}
		if r.Exhibit != 0 {
			id, ok := in.exhibits[r.Exhibit]
			if !ok {
				return x, invalid("comment %d is about exhibit %d, which is missing", r.Number, r.Exhibit)
			}
			x.ExhibitID = &id
		}
		if r.Number < 1 || r.Parent < 0 || r.Parent >= r.Number {
			return x, invalid("comment %d answers comment %d", r.Number, r.Parent)
		}
		if r.Parent != 0 {
			answers[r.Number] = r.Parent
		}
		by, err := in.person(ctx, r.By)
		x.CaseID, x.Number, x.PersonID, x.CreatedAt, x.EditedAt, x.DeletedAt, x.Text = in.of.ID, r.Number, by, r.Created, r.Edited, r.Deleted, r.Text
		x.Moment, x.Until, x.Thread, x.Frame, x.Path, x.File, x.Line = r.Moment, r.Until, r.Thread, int(r.Frame), r.Path, r.File, int(r.Line)
		return x, err
	}, func(records []comment, list []store.Comment) error {
		var edits []store.CommentEdit
		for i, x := range list {
			in.comments[x.Number] = x.ID
			for _, v := range records[i].Versions {
				edits = append(edits, store.CommentEdit{CommentID: x.ID, At: v.At, Text: v.Text})
			}
		}
		return store.Restore(ctx, in.store, edits, "versions of comments")
	})
	if err != nil {
		return err
	}
	for number, parent := range answers {
		id, ok := in.comments[parent]
		if !ok {
			return invalid("comment %d answers comment %d, which is missing", number, parent)
		}
		if err := in.store.SetParent(ctx, in.comments[number], id); err != nil {
			return err
		}
	}
	return nil
}

func (in *importing) addTheories(ctx context.Context) error {
	return restore(ctx, in, theoriesFile, func(r theory) (x store.Theory, err error) {
		if r.Number < 1 || !slices.Contains([]string{api.TheoryOpen, api.TheorySupported, api.TheoryRefuted}, r.State) {
			return x, invalid("theory %d is %.80q", r.Number, r.State)
		}
		by, err := in.person(ctx, r.By)
		return store.Theory{CaseID: in.of.ID, Number: r.Number, PersonID: by, CreatedAt: r.Created, ChangedAt: r.Changed, Text: r.Text, State: r.State, Note: r.Note}, err
	}, func(records []theory, list []store.Theory) error {
		for i, x := range list {
			for side, numbers := range map[bool][]int64{true: records[i].For, false: records[i].Against} {
				for _, n := range numbers {
					id, ok := in.exhibits[n]
					if !ok {
						return invalid("theory %d has exhibit %d, which is missing", x.Number, n)
					}
					if err := in.store.Argue(ctx, store.TheoryExhibit{TheoryID: x.ID, ExhibitID: id, Supports: side}); err != nil {
						return err
					}
				}
			}
		}
		return nil
	})
}

func (in *importing) addSittings(ctx context.Context) error {
	return restore(ctx, in, sittingsFile, func(r sitting) (x store.Sitting, err error) {
		of, err := in.idOf(r.Evidence)
		if err == nil && of == nil {
			err = invalid("a sitting of no evidence")
		}
		if err != nil {
			return x, err
		}
		return store.Sitting{CaseID: in.of.ID, EvidenceID: *of, Moment: r.Moment, Thread: r.Thread, Frame: int(r.Frame), Version: 1, Watches: append([]string{}, r.Watches...), Columns: append([]string{}, r.Columns...), Format: r.Format}, nil
	}, func(records []sitting, list []store.Sitting) error {
		for i, x := range list {
			in.sittings[records[i].Evidence] = x.ID
		}
		return nil
	})
}

func (in *importing) addSteps(ctx context.Context) error {
	return restore(ctx, in, stepsFile, func(r step) (x store.SittingStep, err error) {
		id, ok := in.sittings[r.Evidence]
		if !ok {
			return x, invalid("a step in the sitting of %.80q, which is missing", r.Evidence)
		}
		by, err := in.person(ctx, r.By)
		return store.SittingStep{SittingID: id, PersonID: by, At: r.At, Kind: r.Kind, Moment: r.Moment, Thread: r.Thread, Frame: int(r.Frame), Text: r.Text}, err
	}, nil)
}

func (in *importing) addCustody(ctx context.Context) error {
	return inBatches(in, custodyFile, func(r custody) (x store.Custody, err error) {
		by, err := in.person(ctx, r.By)
		return store.Custody{PersonID: by, At: r.At, What: r.What}, err
	}, func(_ []custody, list []store.Custody) error { return in.store.AddCustody(ctx, in.of.ID, list) })
}
