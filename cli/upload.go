package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"wraithology/client"
)

// begun is an upload that was begun, as a file keeps it: the same command continues it, also after the machine was switched off.
type begun struct {
	At     string `json:"at"`
	SHA256 string `json:"sha256"`
}

// uploadInParts uploads a large file, and continues what an earlier command has begun.
func (a *app) uploadInParts(ctx context.Context, s *client.Client, p client.Parts, f *os.File) error {
	keep, err := a.begunFile(p, f)
	if err != nil {
		return err
	}
	var before begun
	if text, err := os.ReadFile(keep); err == nil {
		_ = json.Unmarshal(text, &before) // one that cannot be read is begun again
	}
	if before.SHA256 == "" {
		fmt.Fprintln(a.err, "reading the file, so that the service can compare what arrives")
		sum := sha256.New()
		if _, err := io.Copy(sum, f); err != nil {
			return fmt.Errorf("read %s: %w", f.Name(), err)
		}
		before.SHA256 = hex.EncodeToString(sum.Sum(nil))
	}
	p.At, p.SHA256 = before.At, before.SHA256
	p.Began = func(at string) {
		if text, err := json.Marshal(begun{at, before.SHA256}); err == nil && os.MkdirAll(filepath.Dir(keep), 0o700) == nil {
			_ = os.WriteFile(keep, text, 0o600) // without it the upload begins again next time
		}
	}
	if err := s.UploadInParts(ctx, p); err != nil {
		return err
	}
	_ = os.Remove(keep) // it is of no use any more
	return nil
}

// begunFile is where an upload of a file as it is now is kept.
func (a *app) begunFile(p client.Parts, f *os.File) (string, error) {
	info, err := f.Stat()
	if err != nil {
		return "", fmt.Errorf("read %s: %w", f.Name(), err)
	}
	full, err := filepath.Abs(f.Name())
	if err != nil {
		return "", fmt.Errorf("find %s: %w", f.Name(), err)
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	text, err := os.ReadFile(a.config) // each service and person has its own
	if err != nil {
		text = []byte(os.Getenv("WRAITH_URL") + os.Getenv("WRAITH_TOKEN"))
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s\x00%s\x00%d\x00%d\x00%s%v", text, p.Case, p.Name, full, info.Size(), info.ModTime().UnixNano(), p.Reading.As, p.Reading.Fields))
	return filepath.Join(cache, "wraithology", "uploads", hex.EncodeToString(sum[:12])+".json"), nil
}
