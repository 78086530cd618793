package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"wraithology/core/evidence"
	"wraithology/core/fault"
)

// roomVariable names the environment variable that limits the timelines of local evidence, in
// gigabytes.
const roomVariable = "WRAITH_CACHE_GB"

// ownTimelines returns where the timelines of local evidence are kept.
func ownTimelines() (evidence.Timelines, error) {
	t := evidence.OwnTimelines()
	if text := os.Getenv(roomVariable); text != "" {
		gigabytes, err := strconv.ParseInt(text, 10, 32)
		if err != nil || gigabytes < 1 {
			return t, fault.InvalidUse.New("set it to a whole number of gigabytes from 1 on, or unset it", "invalid %s %q", roomVariable, text)
		}
		t.Most = gigabytes << 30
	}
	return t, nil
}

type cached struct {
	Folder    string           `json:"folder"`
	Bytes     int64            `json:"bytes"`
	Most      int64            `json:"most"`
	Timelines []cachedTimeline `json:"timelines"`
}

type cachedTimeline struct {
	Evidence string    `json:"evidence"`
	Gone     bool      `json:"gone"`
	Bytes    int64     `json:"bytes"`
	Used     time.Time `json:"used"`
}

func (a *app) cache() *cobra.Command {
	var clear, gone bool
	c := &cobra.Command{
		Use: "cache [EVIDENCE…]", Short: "List the timelines that are kept of local evidence, or remove some with --clear",
		Long: "The first question about a piece of local evidence makes its timeline, which later questions look up.\nTimelines take at most 10 GB, or a tenth of the disk that is free for them, if that is less; " + roomVariable + " sets\nanother limit. The least recently used ones are removed first; what is asked for again is made again.",
		RunE: func(c *cobra.Command, args []string) error {
			t, err := ownTimelines()
			if err != nil {
				return err
			}
			chosen := map[string]bool{}
			for _, path := range args {
				full, err := filepath.Abs(path)
				if err != nil {
					return fmt.Errorf("find %s: %w", path, err)
				}
				chosen[full] = true
			}
			wanted := func(k evidence.Kept) bool {
				return (len(chosen) == 0 || chosen[k.Evidence]) && (!gone || isGone(k))
			}
			list, err := t.List()
			if clear {
				list, err = t.Remove(wanted)
			}
			if err != nil {
				return err
			}
			out := cached{Folder: t.Folder, Timelines: []cachedTimeline{}}
			if out.Most, err = t.Room(); err != nil && len(list) > 0 {
				return err
			}
			for _, k := range list {
				if wanted(k) {
					out.Bytes += k.Bytes
					out.Timelines = append(out.Timelines, cachedTimeline{k.Evidence, isGone(k), k.Bytes, k.Used})
				}
			}
			if len(chosen) > 0 && len(out.Timelines) == 0 {
				return fault.NotFound.New("wraith cache lists those that are kept", "no timeline is kept of %s", args[0])
			}
			return a.print(out, func(w io.Writer) { printCached(w, out, clear) })
		},
	}
	a.outputFlags(c)
	c.Flags().BoolVar(&clear, "clear", false, "remove the timelines of these pieces of evidence, or all")
	c.Flags().BoolVar(&gone, "gone", false, "only those of evidence that does not exist any more")
	return c
}

// isGone reports whether the evidence of a timeline does not exist any more.
func isGone(k evidence.Kept) bool {
	_, err := os.Stat(k.Evidence)
	return os.IsNotExist(err)
}

func printCached(w io.Writer, c cached, removed bool) {
	if len(c.Timelines) > 0 {
		t := newTable(w, "evidence", "bytes", "used", "")
		for _, x := range c.Timelines {
			note := ""
			if x.Gone {
				note = "the evidence is gone"
			}
			t.AppendRow([]any{plain(x.Evidence), megabytes(x.Bytes), x.Used.Local().Format("2006-01-02 15:04"), note})
		}
		t.Render()
	}
	if removed {
		fmt.Fprintf(w, "removed %s, %s\n", counted(len(c.Timelines), "timeline"), megabytes(c.Bytes))
		return
	}
	fmt.Fprintf(w, "%s, %s of at most %s, in %s\n", counted(len(c.Timelines), "timeline"), megabytes(c.Bytes), megabytes(c.Most), plain(c.Folder))
}

func megabytes(n int64) string {
	if n >= 10<<30 {
		return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
	}
	return fmt.Sprintf("%.1f MB", float64(n)/(1<<20))
}
