package store

import "context"

// HasWaitingJob reports whether the queue has a job of a kind with the same arguments, which has not begun. In a transaction it does not begin before
// the end of the transaction.
func (s *Store) HasWaitingJob(ctx context.Context, kind string, args []byte) (bool, error) {
	var ids []int64
	err := s.in(ctx).Raw("select id from river_job where state = 'available' and kind = ? and args = ?::jsonb limit 1 for update skip locked", kind, string(args)).Scan(&ids).Error
	return len(ids) > 0, translate(err, "jobs")
}

// ReleaseJobs makes jobs of the queue that nobody works on any more available again.
func (s *Store) ReleaseJobs(ctx context.Context) error {
	return translate(s.in(ctx).Exec("update river_job set state = 'available', scheduled_at = now(), max_attempts = greatest(max_attempts, attempt + 1) where state = 'running'").Error, "jobs")
}
