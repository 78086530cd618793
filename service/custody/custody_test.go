package custody_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	core "wraithology/core/custody"
	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/service/custody"
	"wraithology/service/store"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// A kept service: its records, the book, and a connection past both.
type kept struct {
	*store.Store
	book   *custody.Book
	folder string
	sql    *pgx.Conn
	ines   int64
	fog    int64
}

func open(t *testing.T) kept {
	t.Helper()
	database := clustertest.Database(t)
	s, err := store.Open(t.Context(), database, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	k := kept{Store: s, folder: t.TempDir()}
	k.book, err = custody.Open(k.folder, "gannet")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, k.book.Close()) })
	k.sql, err = pgx.Connect(t.Context(), database)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, k.sql.Close(context.Background())) })
	p := store.Person{Name: "Ines", PasswordHash: "x"}
	require.NoError(t, s.AddPerson(t.Context(), &p))
	k.ines, k.fog = p.ID, k.newCase(t, "fog", p.ID)
	return k
}

func (k kept) newCase(t *testing.T, name string, lead int64) int64 {
	t.Helper()
	c := store.Case{Name: name}
	require.NoError(t, k.AddCase(t.Context(), &c, lead))
	for i := range 5 {
		require.NoError(t, k.Note(t.Context(), c.ID, lead, fmt.Sprint("looked ", i)))
	}
	return c.ID
}

func (k kept) sign(t *testing.T) {
	t.Helper()
	more, err := k.SignDue(t.Context(), k.book.Sign)
	require.NoError(t, err)
	require.False(t, more)
}

// troubles are those that another process finds, which reads the book.
func (k kept) troubles(t *testing.T) (list []string) {
	t.Helper()
	b, err := custody.Read(k.folder, "gannet")
	require.NoError(t, err)
	_, err = b.Verify(t.Context(), k.Store, func(err error) {
		assert.ErrorIs(t, err, fault.InvalidCustody)
		list = append(list, err.Error())
	})
	require.NoError(t, err)
	return list
}

// force runs statements past the trigger that keeps entries from being changed.
func (k kept) force(t *testing.T, statement string, args ...any) {
	t.Helper()
	for _, do := range []string{"alter table custody disable trigger custody_stays", "", "alter table custody enable trigger custody_stays"} {
		var err error
		if do == "" {
			_, err = k.sql.Exec(t.Context(), statement, args...)
		} else {
			_, err = k.sql.Exec(t.Context(), do)
		}
		require.NoError(t, err)
	}
}

// Whoever changes the database past the service is found out: entries that were changed, removed at the beginning, in the middle and at the end, and a
// record that was made again with right hashes.
func TestTampering(t *testing.T) {
	t.Parallel()
	k := open(t)
	for name, tamper := range map[string]struct{ statement, says string }{
		"nothing":        {"update custody set what = what where case_id = $1", ""},
		"a text":         {"update custody set what = 'x' where case_id = $1 and number = 3", "entry 3 was changed"},
		"a name":         {"update custody set by_name = 'Tomas' where case_id = $1 and number = 3", "entry 3 was changed"},
		"a time":         {"update custody set at = at + interval '1 microsecond' where case_id = $1 and number = 3", "entry 3 was changed"},
		"a kind":         {"update custody set is_read = true where case_id = $1 and number = 3", "entry 3 was changed"},
		"the first":      {"delete from custody where case_id = $1 and number = 1", "entries are missing"},
		"one between":    {"delete from custody where case_id = $1 and number = 3", "entries are missing"},
		"the end":        {"delete from custody where case_id = $1 and number > 3", "entries were removed"},
		"all":            {"delete from custody where case_id = $1", "entries were removed"},
		"the whole case": {"delete from cases_all where id = $1", "with 5 entries was removed"},
		"made again":     {"delete from custody where case_id = $1 and number > 2", "made again"},
		"made longer":    {"delete from custody where case_id = $1 and number > 2", "made again"},
		"a number":       {"update custody set number = number + 1 where case_id = $1 and number = 5", "entries are missing"},
	} {
		of := strings.ReplaceAll(name, " ", "-")
		id := k.newCase(t, of, k.ines)
		k.sign(t)
		before := k.troubles(t)
		k.force(t, tamper.statement, id)
		if until := map[string]int{"made again": 5, "made longer": 9}[name]; until > 0 {
			k.again(t, id, until)
		}
		var got []string
		for _, trouble := range k.troubles(t) {
			if !slices.Contains(before, trouble) {
				got = append(got, trouble)
			}
		}
		if tamper.says == "" {
			assert.Empty(t, got, name)
			continue
		}
		if assert.Len(t, got, 1, name) {
			assert.Contains(t, got[0], tamper.says, name)
		}
	}
}

// again adds other entries with right hashes to a record until there are some.
func (k kept) again(t *testing.T, id int64, until int) {
	t.Helper()
	for i := 2; i < until; i++ {
		require.NoError(t, k.Note(t.Context(), id, k.ines, fmt.Sprint("invented ", i)))
	}
}

// The database itself refuses to change or delete an entry.
func TestEntriesStay(t *testing.T) {
	t.Parallel()
	k := open(t)
	for _, statement := range []string{"update custody set what = ''", "delete from custody", "delete from cases_all"} {
		_, err := k.sql.Exec(t.Context(), statement)
		assert.ErrorContains(t, err, "cannot be changed", statement)
	}
}

// Many people change and read many cases at once: all records are whole, each end is signed, and what was read is counted once.
func TestAtOnce(t *testing.T) {
	t.Parallel()
	k := open(t)
	cases := []int64{k.fog, k.newCase(t, "swell", k.ines), store.OfService}
	reads := custody.NewReads()
	rounds, end := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.book.Run(rounds, k.Store, reads, slog.New(slog.DiscardHandler))
	}()
	var group sync.WaitGroup
	for n := range 8 {
		group.Go(func() {
			for i := range 40 {
				record := cases[i%len(cases)]
				assert.NoError(t, k.AddCustody(t.Context(), record, []store.Custody{{PersonID: k.ines, At: time.Now(), What: fmt.Sprintf("did %d %d", n, i)}}))
				reads.Add(k.ines, k.fog, "run", "stack")
				if i%10 == 0 {
					_, err := k.SignDue(t.Context(), k.book.Sign)
					assert.NoError(t, err)
				}
			}
		})
	}
	group.Wait()
	end()
	<-ended
	assert.Empty(t, k.troubles(t))
	changes, times := 0, 0
	for _, record := range cases {
		list, err := k.CustodyOf(t.Context(), record, store.CustodyPage{Most: 1000, Reads: true})
		require.NoError(t, err)
		for _, x := range list {
			if !x.IsRead {
				changes++
				continue
			}
			n := 1
			_, _ = fmt.Sscanf(x.What, "read stack of run, %d times", &n)
			times += n
			assert.Zero(t, x.At.Second())
		}
	}
	assert.Equal(t, 8*40+2*5, changes)
	assert.Equal(t, 8*40, times)
	var due int
	require.NoError(t, k.sql.QueryRow(t.Context(), "select count(*) from custody_due").Scan(&due))
	assert.Zero(t, due)
}

// What cannot be signed stays due, and what cannot be written stays in memory.
func TestTriedAgain(t *testing.T) {
	t.Parallel()
	k := open(t)
	_, err := k.SignDue(t.Context(), func(heads []core.Head) error { return errors.New("the disk is full") })
	require.ErrorContains(t, err, "disk is full")
	reads := custody.NewReads()
	reads.Add(k.ines, k.fog, "run", "stack")
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	require.Error(t, reads.Write(gone, k.Store, time.Now().Add(time.Minute)))
	require.NoError(t, reads.Write(t.Context(), k.Store, time.Now().Add(-time.Minute)), "its minute is not over")
	reads.Add(k.ines, k.fog, "run", "stack")
	reads.Add(k.ines, 1e9, "run", "stack") // a case that is gone meanwhile
	require.NoError(t, reads.Write(t.Context(), k.Store, time.Now().Add(time.Minute)))
	k.sign(t)
	assert.Empty(t, k.troubles(t))
	list, err := k.CustodyOf(t.Context(), k.fog, store.CustodyPage{Most: 1, Reads: true})
	require.NoError(t, err)
	assert.Equal(t, "read stack of run, 2 times", list[0].What)
	k.force(t, "delete from custody where number = 6")
	assert.Len(t, k.troubles(t), 1, "the end was signed")
}

// A case that was deleted for good is in the record of the service; one that is gone without that is missed.
func TestPurgedRecord(t *testing.T) {
	t.Parallel()
	k := open(t)
	k.newCase(t, "swell", k.ines)
	k.sign(t)
	require.NoError(t, k.DeleteCase(t.Context(), k.fog, k.ines))
	require.NoError(t, k.Note(t.Context(), k.fog, k.ines, "after its end was signed"))
	require.NoError(t, k.Purge(t.Context(), time.Now().Add(time.Minute)))
	k.sign(t)
	assert.Empty(t, k.troubles(t))
	list, err := k.CustodyOf(t.Context(), store.OfService, store.CustodyPage{Most: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].What, "the case 1, fog, cannot be restored any more: its record ended with entry 6, ")
	k.force(t, "delete from custody where case_id is null")
	assert.Len(t, k.troubles(t), 2, "the case, and the end of the record of the service")
}

// The book survives a kill in the middle of a line, and many signatures; somebody else's signature in it is refused.
func TestBook(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	heads := filepath.Join(folder, "heads.jsonl")
	b, err := custody.Open(folder, "gannet")
	require.NoError(t, err)
	key := b.Public()
	for i := range 1100 {
		require.NoError(t, b.Sign([]core.Head{{Record: int64(i % 3), Number: int64(i), Hash: []byte{byte(i)}}}))
	}
	require.NoError(t, b.Close())
	text, err := os.ReadFile(heads)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(heads, text[:len(text)-20], 0o600))
	for range 2 { // the second one finds it shortened
		b, err = custody.Open(folder, "gannet")
		require.NoError(t, err)
		assert.Equal(t, key, b.Public())
		assert.Equal(t, map[int64]int64{0: 1098, 1: 1096, 2: 1097}, b.Numbers()) // of the last line nothing is left
		require.NoError(t, b.Close())
	}
	short, err := os.ReadFile(heads)
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(short), "\n"))
	require.NoError(t, os.WriteFile(heads, []byte(strings.Replace(string(short), `"number":1097`, `"number":97`, 1)), 0o600))
	_, err = custody.Open(folder, "gannet")
	assert.ErrorIs(t, err, fault.InvalidCustody)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "key.pem"), []byte("fog"), 0o600))
	_, err = custody.Open(folder, "gannet")
	assert.ErrorIs(t, err, fault.InvalidCustody)
}
