package ask

import (
	"context"

	"wraithology/core/replay"
	"wraithology/core/traceback"
)

// Fingerprint returns a hash that is equal for failures of the same kind at the same place. It
// covers the outermost error's type, or the kind of the failure, and the innermost own functions of
// the failing thread. It is empty without a failure.
func Fingerprint(ctx context.Context, r replay.Recording) (string, error) {
	f := r.Info().Failure
	if f == nil || f.Thread == 0 {
		return "", nil
	}
	parts := []string{f.Kind}
	if len(f.Causes) > 0 && f.Causes[0].Type != "" {
		parts[0] = f.Causes[0].Type
	}
	frames, err := r.Frames(ctx, f.Moment, f.Thread)
	if err != nil {
		return "", err
	}
	for _, x := range frames {
		if x.Own && len(parts) <= traceback.Fingerprinted {
			parts = append(parts, x.Function)
		}
	}
	if len(parts) == 1 {
		return "", nil // the kind alone is not enough
	}
	return traceback.Fingerprint(parts...), nil
}
