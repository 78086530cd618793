package store

import "context"

// HasLaterJob reports whether the queue has a later job of a kind with the same arguments, which has not begun.
func (s *Store) HasLaterJob(ctx context.Context, id int64, kind string, args []byte) (has bool, err error) {
	err = s.in(ctx).Raw("select exists (select from river_job where state = 'available' and kind = ? and args = ?::jsonb and id > ?)", kind, string(args), id).Scan(&has).Error
	return has, translate(err, "jobs")
}

// ReleaseJobs makes jobs of the queue that nobody works on any more available again.
func (s *Store) ReleaseJobs(ctx context.Context) error {
	return translate(s.in(ctx).Exec("update river_job set state = 'available', scheduled_at = now(), max_attempts = greatest(max_attempts, attempt + 1) where state = 'running'").Error, "jobs")
}
