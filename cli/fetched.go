package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"wraithology/core/fault"
	"wraithology/core/replay"
)

// mostFetched is the number of recordings of cases that are kept here.
const mostFetched = 4

// openHere opens a recording on this machine: a file, or the evidence of a case, which is fetched once.
func (a *app) openHere(ctx context.Context, name string) (replay.Recording, error) {
	if !mayBeShared(name) {
		return a.openFile(ctx, name)
	}
	path, err := a.fetch(ctx, name)
	if err != nil {
		return nil, err
	}
	return a.openFile(ctx, path)
}

// fetch downloads the evidence of a case into the cache folder, unless it is there, and returns its path.
func (a *app) fetch(ctx context.Context, name string) (path string, err error) {
	ofCase, short, _ := strings.Cut(name, "/")
	s, err := a.client()
	if err != nil {
		return "", err
	}
	info, err := s.EvidenceInfo(ctx, ofCase, short)
	if err != nil {
		return "", err
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("find the folder for caches: %w", err)
	}
	folder := filepath.Join(cache, "wraithology", "evidence")
	path = filepath.Join(folder, info.SHA256)
	if _, err := os.Stat(path); err == nil {
		return path, nil
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", fmt.Errorf("keep %s here: %w", name, err)
	}
	f, err := os.CreateTemp(folder, "fetching-*")
	if err != nil {
		return "", fmt.Errorf("keep %s here: %w", name, err)
	}
	defer os.Remove(f.Name()) // it has been renamed, or is incomplete
	sum := sha256.New()
	err = s.Download(ctx, ofCase, short, io.MultiWriter(f, sum))
	if err = cmp.Or(err, f.Close()); err != nil {
		return "", err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != info.SHA256 {
		return "", fault.Unreadable.New("try again", "%s arrived with other bytes than were sent: the sum is %s, not %s", name, got, info.SHA256)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return "", fmt.Errorf("keep %s here: %w", name, err)
	}
	return path, forgetOldest(folder)
}

// forgetOldest removes the files that were fetched first, but the newest ones.
func forgetOldest(folder string) error {
	list, err := os.ReadDir(folder)
	if err != nil {
		return fmt.Errorf("look at what was fetched: %w", err)
	}
	age := func(e os.DirEntry) int64 {
		info, err := e.Info()
		if err != nil {
			return 0
		}
		return info.ModTime().UnixNano()
	}
	slices.SortFunc(list, func(x, y os.DirEntry) int { return cmp.Compare(age(y), age(x)) })
	for _, e := range list[min(len(list), mostFetched):] {
		if err := os.Remove(filepath.Join(folder, e.Name())); err != nil && !os.IsNotExist(err) {
			return fmt.Errorf("forget what was fetched: %w", err)
		}
	}
	return nil
}
