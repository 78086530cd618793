package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/service/store"
	"wraithology/service/vault"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// place is a service's records and vault, with one person of its own.
type place struct {
	store *store.Store
	vault *vault.Vault
	ines  store.Person
}

func newPlace(t testing.TB) place {
	s, err := store.Open(context.Background(), clustertest.Database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	v, err := vault.Open(t.TempDir())
	require.NoError(t, err)
	p := store.Person{Name: "Ines"}
	require.NoError(t, s.AddPerson(context.Background(), &p))
	return place{s, v, p}
}

func (p place) export(t testing.TB, caseID int64) []byte {
	var b bytes.Buffer
	require.NoError(t, Export{Store: p.store, Vault: p.vault, From: "https://wraith.gannet.example", By: "Ines", Report: "<p>fog</p>"}.Write(context.Background(), caseID, &b))
	return b.Bytes()
}

func (p place) read(t testing.TB, content []byte, as string) (store.Case, []store.Evidence, error) {
	name := filepath.Join(t.TempDir(), "case.zip")
	require.NoError(t, os.WriteFile(name, content, 0o600))
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	return Import{Store: p.store, Vault: p.vault, By: p.ines}.Read(context.Background(), f, as)
}

// generated makes a case with records of every kind.
func (p place) generated(t testing.TB, random *rand.Rand) store.Case {
	ctx := context.Background()
	people := []store.Person{p.ines}
	for _, name := range []string{"Tomas", "Odile"} {
		x := store.Person{Name: name}
		require.NoError(t, p.store.AddPerson(ctx, &x))
		people = append(people, x)
	}
	someone := func() store.Person { return people[random.IntN(len(people))] }
	text := func() string {
		all := []rune("tide Kelp <b>*quay*</b>\n\"\\\u2028ä🌊{}[]@Tomas ")
		var b strings.Builder
		for range random.IntN(40) {
			b.WriteRune(all[random.IntN(len(all))])
		}
		return b.String()
	}
	c := store.Case{Name: "fog", Title: "Fog at " + text()}
	require.NoError(t, p.store.AddCase(ctx, &c, p.ines.ID))
	require.NoError(t, p.store.SetMember(ctx, store.Member{CaseID: c.ID, PersonID: people[1].ID, Role: api.RoleViewer}))
	var list []store.Evidence
	for i := range 1 + random.IntN(4) {
		kept, err := p.vault.Put(ctx, strings.NewReader(strings.Repeat(text(), random.IntN(2000))+"bytes"))
		require.NoError(t, err)
		e := store.Evidence{CaseID: c.ID, Name: fmt.Sprintf("run-%d", i), SHA256: kept.SHA256, Bytes: kept.Bytes, PersonID: someone().ID, State: api.StateReady, Fields: map[string]string{"thread": "vessel"}, Outcome: text(), ClockOffsetNs: random.Int64()}
		require.NoError(t, p.store.AddEvidence(ctx, &e))
		list = append(list, e)
	}
	kept, err := p.vault.Put(ctx, strings.NewReader("an artifact"))
	require.NoError(t, err)
	require.NoError(t, p.store.AddArtifact(ctx, &store.Artifact{CaseID: c.ID, Name: "berthing", Kind: api.ArtifactBinary, SHA256: kept.SHA256, Bytes: kept.Bytes, BuildID: "b1", PersonID: someone().ID}))
	for i := range random.IntN(5) {
		require.NoError(t, p.store.AddCheckpoint(ctx, &store.Checkpoint{CaseID: c.ID, Kind: "line", File: "berth.go", Line: i, Text: text(), Evidence: list[0].Name, Condition: "a > 1", Show: []string{"a"}, Enabled: random.IntN(2) == 0, PersonID: someone().ID}))
		require.NoError(t, p.store.AddExpectation(ctx, &store.Expectation{CaseID: c.ID, Checkpoint: "enter F", That: "a > 1", Note: text(), PersonID: someone().ID}))
	}
	var exhibits []store.Exhibit
	for range random.IntN(40) {
		answer, err := json.Marshal(text())
		require.NoError(t, err)
		x := store.Exhibit{CaseID: c.ID, EvidenceID: list[random.IntN(len(list))].ID, PersonID: someone().ID, Question: "ask", Request: `{"expression":"a"}`, Answer: string(answer), Moment: random.Int64N(100), Thread: 1, Note: text()}
		require.NoError(t, p.store.AddExhibit(ctx, &x))
		exhibits = append(exhibits, x)
	}
	var comments []store.Comment
	for range random.IntN(60) {
		x := store.Comment{CaseID: c.ID, PersonID: someone().ID, Text: text(), Path: text()}
		if random.IntN(2) == 0 {
			moment := random.Int64N(100)
			x.EvidenceID, x.Moment = &list[random.IntN(len(list))].ID, &moment
		}
		if len(exhibits) > 0 && random.IntN(3) == 0 {
			x.ExhibitID = &exhibits[random.IntN(len(exhibits))].ID
		}
		if len(comments) > 0 && random.IntN(2) == 0 {
			x.ParentID = &comments[random.IntN(len(comments))].ID
		}
		require.NoError(t, p.store.AddComment(ctx, &x, nil))
		comments = append(comments, x)
		switch random.IntN(5) {
		case 0:
			require.NoError(t, p.store.EditComment(ctx, x, text(), nil))
		case 1:
			require.NoError(t, p.store.DeleteComment(ctx, x.ID))
		}
	}
	for range random.IntN(4) {
		x := store.Theory{CaseID: c.ID, PersonID: someone().ID, Text: text(), State: api.TheorySupported, Note: text()}
		require.NoError(t, p.store.AddTheory(ctx, &x))
		for _, e := range exhibits {
			if random.IntN(4) == 0 {
				require.NoError(t, p.store.Argue(ctx, store.TheoryExhibit{TheoryID: x.ID, ExhibitID: e.ID, Supports: random.IntN(2) == 0}))
			}
		}
	}
	if len(exhibits) > 1 { // a number that is not used any more
		require.NoError(t, p.store.DeleteExhibit(ctx, c.ID, exhibits[0].Number))
	}
	for _, e := range list {
		x, err := p.store.OpenSitting(ctx, store.Sitting{CaseID: c.ID, EvidenceID: e.ID, Moment: 4})
		require.NoError(t, err)
		for range random.IntN(5) {
			require.NoError(t, p.store.AddStep(ctx, store.SittingStep{SittingID: x.ID, PersonID: someone().ID, Kind: api.StepSay, Text: text()}))
		}
	}
	for range random.IntN(2000) {
		require.NoError(t, p.store.Note(ctx, c.ID, someone().ID, text()))
	}
	require.NoError(t, p.store.CloseCase(ctx, c.ID, text(), p.ines.ID))
	return c
}

// contents unpacks an archive. What an import changes is made as it was: the names of people, numbers that are of the service, the new lead, and what
// the import added to the record.
func contents(t testing.TB, archive []byte) map[string]string {
	r, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	require.NoError(t, err)
	out := map[string]string{}
	for _, f := range r.File {
		in, err := f.Open()
		require.NoError(t, err)
		b, err := io.ReadAll(in)
		require.NoError(t, err)
		text := strings.ReplaceAll(string(b), " (wraith.gannet.example)", "")
		switch f.Name {
		case manifestFile:
			continue
		case headerFile:
			var h Header
			require.NoError(t, json.Unmarshal([]byte(text), &h))
			h.Service, h.At = "", time.Time{}
			slices.SortFunc(h.Case.Members, func(a, b member) int { return strings.Compare(a.Name, b.Name) })
			h.Case.Members = slices.Compact(h.Case.Members)
			again, err := json.Marshal(h)
			require.NoError(t, err)
			text = string(again)
		case checkpointsFile, expectationsFile:
			text = regexp.MustCompile(`"number":\d+,`).ReplaceAllString(text, "")
		case custodyFile:
			lines := strings.SplitAfter(text, "\n")
			lines = lines[:len(lines)-1]
			if len(lines) > 0 && strings.Contains(lines[len(lines)-1], "imported the case") {
				lines = lines[:len(lines)-1]
			}
			text = strings.Join(lines, "")
		case evidenceFile: // an import indexes it again
			text = regexp.MustCompile(`"(outcome|kind)":"([^"\\]|\\.)*"|"started":"[^"]*"`).ReplaceAllString(text, "")
		}
		out[f.Name] = text
	}
	return out
}

// What an archive is made from comes back from it: the archive of an imported case has the same records and bytes.
func TestThereAndBack(t *testing.T) {
	t.Parallel()
	for seed := range uint64(4) {
		from, to := newPlace(t), newPlace(t)
		archive := from.export(t, from.generated(t, rand.New(rand.NewPCG(seed, 1))).ID)
		c, added, err := to.read(t, archive, "")
		require.NoError(t, err)
		assert.Equal(t, "fog", c.Name)
		for _, e := range added {
			assert.Equal(t, api.StateIndexing, e.State)
			assert.True(t, e.IsImported)
			assert.FileExists(t, to.vault.Path(e.SHA256))
		}
		assert.Equal(t, contents(t, archive), contents(t, to.export(t, c.ID)))

		people, err := to.store.People(context.Background())
		require.NoError(t, err)
		assert.Len(t, people, 1, "people of the archive cannot be added to cases")
		_, _, err = to.read(t, archive, "")
		assert.ErrorIs(t, err, fault.Exists)
		again, _, err := to.read(t, archive, "fog-2")
		require.NoError(t, err)
		x := store.Exhibit{CaseID: again.ID, EvidenceID: added[0].ID, PersonID: to.ines.ID, Request: "{}", Answer: "{}"}
		require.NoError(t, to.store.AddExhibit(context.Background(), &x), "numbers go on")
	}
}

// An archive that is cut off or changed anywhere is refused with a clear error, and leaves no case.
func TestDamagedArchives(t *testing.T) {
	t.Parallel()
	from, to := newPlace(t), newPlace(t)
	random := rand.New(rand.NewPCG(5, 5))
	archive := from.export(t, from.generated(t, random).ID)
	good := contents(t, archive)
	n := 0
	refused := func(content []byte, what string) {
		n++
		c, _, err := to.read(t, content, fmt.Sprintf("fog-%d", n))
		if err == nil { // a byte that means nothing, such as the time of a file
			got := contents(t, to.export(t, c.ID))
			got[headerFile] = good[headerFile] // has the new name
			assert.Equal(t, good, got, what)
			return
		}
		assert.ErrorIs(t, err, fault.InvalidArchive, what)
	}
	for range 60 {
		n := random.IntN(len(archive))
		refused(archive[:n], fmt.Sprintf("cut off after %d", n))
	}
	for range 120 {
		changed := bytes.Clone(archive)
		n := random.IntN(len(archive))
		changed[n] ^= byte(1 + random.IntN(255))
		refused(changed, fmt.Sprintf("changed at %d", n))
	}
	refused(nil, "empty")
	refused([]byte("not an archive at all, but long enough to have an end"), "text")
}

// made writes an archive from files, with a manifest that fits, and with changes.
func made(t testing.TB, files map[string]string, change func(*manifest)) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	m := manifest{}
	for name, text := range files {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(f, text)
		require.NoError(t, err)
		m.Files = append(m.Files, file{name, int64(len(text)), sumOf(text)})
	}
	if change != nil {
		change(&m)
	}
	f, err := w.Create(manifestFile)
	require.NoError(t, err)
	require.NoError(t, json.NewEncoder(f).Encode(m))
	require.NoError(t, w.Close())
	return b.Bytes()
}

func sumOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// Archives that nobody exported, but that fit to their manifests, are refused where they are wrong, and nothing of them stays.
func TestHostileArchives(t *testing.T) {
	t.Parallel()
	to := newPlace(t)
	const at = `"2031-03-01T00:00:00Z"`
	header := func(format string, version int) string {
		return fmt.Sprintf(`{"format":%q,"version":%d,"from":"https://elsewhere.example","service":"s1","by":"Ines","at":%s,"case":{"name":"fog","title":"Fog","created":%s,"members":[{"name":"Ines","role":"lead"}]}}`, format, version, at, at)
	}
	head := header(Format, Version)
	run := fmt.Sprintf(`{"name":"run","bytes":1,"sha256":%q,"uploaded":%s,"by":"Ines"}`+"\n", sumOf("x"), at)
	valid := func() map[string]string {
		out := map[string]string{headerFile: head, filesFolder + sumOf("x"): "x"}
		for _, name := range []string{artifactsFile, checkpointsFile, expectationsFile, exhibitsFile, commentsFile, theoriesFile, sittingsFile, stepsFile, custodyFile} {
			out[name] = ""
		}
		out[evidenceFile] = run
		return out
	}
	for name, texts := range map[string][]string{
		headerFile: {"{", header("something-else", 1), header(Format, 99), header(Format, 0), strings.Replace(head, `"role":"lead"`, `"role":"owner"`, 1), strings.Replace(head, `"service":"s1",`, "", 1),
			strings.Replace(head, `"title":"Fog"`, `"title":"\u0000"`, 1), strings.Replace(head, `"name":"fog"`, `"name":"../fog"`, 1)},
		evidenceFile:    {"{", `{"name":"../run"}`, strings.Replace(run, `"bytes":1`, `"bytes":2`, 1), strings.Replace(run, sumOf("x"), "../../etc/passwd", 1), strings.Replace(run, "Ines", "", 1), run + run},
		artifactsFile:   {strings.Replace(run, `"name":"run"`, `"name":"a","kind":"program"`, 1)},
		checkpointsFile: {`{"kind":"line","evidence":"none","by":"Ines"}`, `{"kind":"line","condition":"((","by":"Ines"}`, `{"kind":"line","line":99999999999,"by":"Ines"}`},
		exhibitsFile:    {`{"number":1,"by":"Ines"}`, `{"number":0,"evidence":"run","by":"Ines"}`, `{"number":1,"evidence":"run","by":"Ines","frame":99999999999}`, strings.Repeat(`{"number":1,"evidence":"run","by":"Ines"}`+"\n", 2)},
		commentsFile: {`{"number":1,"exhibit":7,"by":"Ines","text":"x"}`, `{"number":1,"parent":1,"by":"Ines","text":"x"}`, `{"number":2,"parent":1,"by":"Ines","text":"x"}`, `{"number":1,"by":"Ines","text":"a\u0000b"}`,
			`{"number":1,"by":"` + strings.Repeat("x", 300) + `","text":"x"}`},
		theoriesFile:     {`{"number":1,"by":"Ines","state":"certain"}`, `{"number":1,"by":"Ines","state":"open","for":[3]}`},
		sittingsFile:     {`{"evidence":""}`, strings.Repeat(`{"evidence":"run"}`+"\n", 2)},
		stepsFile:        {`{"evidence":"run","by":"Ines"}`},
		custodyFile:      {`{"by":"Ines","what":7}`, `"` + strings.Repeat("x", mostLine+1) + `"`},
		expectationsFile: {`[]`},
	} {
		for _, text := range texts {
			files := valid()
			files[name] = text
			_, _, err := to.read(t, made(t, files, nil), "")
			kind, _ := fault.Of(err)
			assert.Error(t, err, "%s: %.200s", name, text)
			assert.NotEqual(t, fault.Internal, kind, "%s: %.200s: %v", name, text, err)
		}
	}
	for what, change := range map[string]func(*manifest){
		"a size":     func(m *manifest) { m.Files[0].Bytes++ },
		"a hash":     func(m *manifest) { m.Files[0].SHA256 = sumOf("y") },
		"no bytes":   func(m *manifest) { m.Files[0].Bytes = -1 },
		"twice":      func(m *manifest) { m.Files = append(m.Files, m.Files[0]) },
		"missing":    func(m *manifest) { m.Files = append(m.Files, file{"files/none", 0, ""}) },
		"not listed": func(m *manifest) { m.Files = m.Files[1:] },
	} {
		_, _, err := to.read(t, made(t, valid(), change), "")
		assert.ErrorIs(t, err, fault.InvalidArchive, what)
	}
	var left int
	require.NoError(t, to.store.Pool.QueryRow(context.Background(), "select count(*) from cases_all where name = 'fog'").Scan(&left))
	assert.Zero(t, left, "nothing of them stays")
	_, added, err := to.read(t, made(t, valid(), nil), "")
	require.NoError(t, err, "the one that they are made from is fine")
	assert.Len(t, added, 1)
}

// Whatever the end of a file says, the directory that is then read is not larger than that.
func FuzzEntries(f *testing.F) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	_, err := w.Create("x")
	require.NoError(f, err)
	require.NoError(f, w.Close())
	f.Add(b.Bytes())
	f.Add(append(bytes.Repeat([]byte{0x50, 0x4b, 6, 7, 0, 0, 0, 0}, 8), 0x50, 0x4b, 5, 6, 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0))
	f.Fuzz(func(t *testing.T, content []byte) {
		n, err := entries(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			assert.ErrorIs(t, err, fault.InvalidArchive)
			return
		}
		if r, err := zip.NewReader(bytes.NewReader(content), int64(len(content))); err == nil && n <= mostFiles {
			assert.LessOrEqual(t, len(r.File), len(content)/46+1) // the least size of an entry
		}
	})
}
