package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"wraithology/core/replay/find"
)

// checkpointFlags are the flags that choose a checkpoint, one for each kind.
type checkpointFlags struct {
	prefix string
	about  map[string]*string
}

const anyText = "*"

func addCheckpointFlags(c *cobra.Command) *checkpointFlags { return addPrefixedCheckpointFlags(c, "") }

// addPrefixedCheckpointFlags adds the flags of a further checkpoint, whose names begin with a prefix.
func addPrefixedCheckpointFlags(c *cobra.Command, prefix string) *checkpointFlags {
	f := &checkpointFlags{prefix, map[string]*string{}}
	for _, k := range find.Kinds() {
		f.about[k.Name] = c.Flags().String(prefix+k.Name, "", k.Doc)
		if k.Any {
			c.Flags().Lookup(prefix + k.Name).NoOptDefVal = anyText
		}
	}
	return f
}

// checkpointUsage returns the checkpoint flags as a command's usage shows them.
func checkpointUsage() string {
	var list []string
	for _, k := range find.Kinds() {
		list = append(list, "--"+k.Name+" "+k.Form)
	}
	return strings.Join(list, "|")
}

// isSet reports whether a checkpoint is chosen.
func (f *checkpointFlags) isSet() bool {
	for _, about := range f.about {
		if *about != "" {
			return true
		}
	}
	return false
}

// on returns the checkpoint as text. rest are remaining arguments, which can be the value of a flag
// without one: --error TEXT.
func (f *checkpointFlags) on(rest []string) (string, error) {
	var on, names []string
	for _, k := range find.Kinds() {
		about := *f.about[k.Name]
		names = append(names, "--"+f.prefix+k.Name)
		if about == anyText && len(rest) > 0 {
			about, rest = rest[0], rest[1:]
		}
		if about != "" {
			on = append(on, k.Name+" "+about)
		}
	}
	if len(rest) > 0 {
		return "", usage("give one LOCATOR, then flags", "unexpected argument %q", rest[0])
	}
	if len(on) != 1 {
		return "", usage("for example --line berth.go:65, or --enter clearance", "a checkpoint needs exactly one of %s", strings.Join(names, ", "))
	}
	if _, _, err := find.Parse(on[0]); err != nil {
		return "", err
	}
	return on[0], nil
}
