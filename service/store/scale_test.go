package store

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"wraithology/e2e/clustertest"
)

// large is a store with a case of 100,000 comments and 10,000 exhibits, and 100,000 failures of 200 programs in 1,000 cases, all of one
// person.
func large(b *testing.B) (s *Store, person, caseID int64, failure Evidence) {
	ctx := b.Context()
	s, err := Open(ctx, clustertest.Database(b), slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	b.Cleanup(s.Close)
	p := Person{Name: "Ines"}
	require.NoError(b, s.AddPerson(ctx, &p))
	for _, statement := range []string{
		`insert into cases (name, title, created_at) select 'case-' || n, 'Case ' || n, now() from generate_series(1, 1000) n`,
		`insert into members (case_id, person_id, role, own_role) select id, ` + "(select min(id) from people)" + `, 'lead', 'lead' from cases`,
		`insert into evidence (case_id, name, kind, bytes, sha256, uploaded_at, person_id, state, progress, trouble, program, build_id, host, started, duration_ns, moments, outcome, gaps, fingerprint, read_as, fields)
			select (select min(id) from cases) + n % 1000, 'run-' || n, 'execution-log', 1, '00', now() - n * interval '1 second', (select min(id) from people), 'ready', 1, '', 'program-' || n % 200, '', '', now(), 0, 10, 'error: vessel ' || n || ' too deep', 0,
			'print-' || n % 5000, '', '{}' from generate_series(1, 100000) n`,
		`insert into failure_functions (evidence_id, depth, function)
			select e.id, d, case when d = 5 then 'main.main' else 'program-' || e.id % 200 || '.f' || (e.id / 200 * (d + 3)) % (20 * (6 - d)) end from evidence e, generate_series(0, 5) d`,
		`insert into failure_words (evidence_id, words) select id, 'error vessel # too deep w' || id % 7 from evidence`,
		`insert into exhibits (case_id, evidence_id, person_id, created_at, question, request, answer, moment, thread, frame, note, number)
			select (select min(id) from cases), (select min(id) from evidence), (select min(id) from people), now(), 'ask', '{"expression":"a"}', '{"value":"4"}', n, 1, 0, 'note ' || n, n from generate_series(1, 10000) n`,
		`insert into comments (case_id, evidence_id, person_id, created_at, text, moment, thread, frame, path, file, line, number)
			select (select min(id) from cases), (select min(id) from evidence), (select min(id) from people), now(), 'the height of tide ' || n || ' is word' || n % 1000, n, 1, 0, '', '', 0, n from generate_series(1, 100000) n`,
		`analyze`,
	} {
		require.NoError(b, s.in(ctx).Exec(statement).Error)
	}
	require.NoError(b, s.in(ctx).Raw("select min(id) from cases").Scan(&caseID).Error)
	require.NoError(b, s.in(ctx).Order("id").Offset(50_000).Take(&failure).Error)
	return s, p.ID, caseID, failure
}

// BenchmarkLarge measures what people wait for in a large case, and among very many failures.
func BenchmarkLarge(b *testing.B) {
	s, person, caseID, failure := large(b)
	ctx := b.Context()
	slowest := func(b *testing.B, f func() error) {
		var most time.Duration
		for b.Loop() {
			began := time.Now()
			require.NoError(b, f())
			most = max(most, time.Since(began))
		}
		b.ReportMetric(float64(most.Milliseconds()), "ms-slowest")
	}
	b.Run("latest comments", func(b *testing.B) {
		slowest(b, func() error {
			_, err := s.CommentsOf(ctx, caseID, CommentQuery{Page: Page{Latest: true, Most: 200}})
			return err
		})
	})
	b.Run("comments with words", func(b *testing.B) {
		slowest(b, func() error {
			_, err := s.CommentsOf(ctx, caseID, CommentQuery{Text: "tide word17", Page: Page{Most: 200}})
			return err
		})
	})
	b.Run("comments about moments", func(b *testing.B) {
		slowest(b, func() error {
			_, err := s.CommentsOf(ctx, caseID, CommentQuery{Evidence: failure.ID - 50_000, From: 5000, To: 5200, Page: Page{Most: 200}})
			return err
		})
	})
	b.Run("exhibits", func(b *testing.B) {
		slowest(b, func() error { _, err := s.ExhibitsOf(ctx, caseID, Page{Most: 1000}); return err })
	})
	b.Run("similar failures", func(b *testing.B) {
		slowest(b, func() error {
			list, err := s.SimilarTo(ctx, failure, person)
			require.NotEmpty(b, list)
			return err
		})
	})
	b.Run("cases with a text", func(b *testing.B) {
		slowest(b, func() error {
			_, err := s.FindCases(ctx, person, CaseQuery{Text: "vessel 4711", Most: 100})
			return err
		})
	})
	b.Run("cases of a program", func(b *testing.B) {
		slowest(b, func() error {
			_, err := s.FindCases(ctx, person, CaseQuery{Program: "program-7", State: "open", Most: 100})
			return err
		})
	})
}
