package debuginfo

import (
	"cmp"
	"debug/dwarf"
	"path"
	"slices"
	"strings"
)

// line is a row of the line table. It holds from its address to the next row.
type line struct {
	address uint64
	file    *dwarf.LineFile
	line    int
	end     bool // the end of a sequence
}

const maxLines = 20 << 20

func (u *Unit) lineTable() []line {
	if u.skeleton != nil {
		return u.skeleton.lineTable()
	}
	u.lined.Do(func() {
		var err error
		defer guard(&err) // keep what was read before the damage
		r, err := u.Debug.data.LineReader(u.entry)
		if err != nil || r == nil {
			return
		}
		for _, f := range r.Files() {
			name := ""
			if f != nil {
				name = f.Name
			}
			u.files = append(u.files, name)
		}
		var e dwarf.LineEntry
		for len(u.lines) < maxLines && r.Next(&e) == nil {
			u.lines = append(u.lines, line{e.Address, e.File, e.Line, e.EndSequence})
		}
		// At the same address the last row counts, but the end of a sequence comes before the
		// beginning of the next.
		slices.SortStableFunc(u.lines, func(a, b line) int {
			if c := cmp.Compare(a.address, b.address); c != 0 || a.end == b.end {
				return c
			}
			if a.end {
				return -1
			}
			return 1
		})
	})
	return u.lines
}

func (u *Unit) fileName(index int64) string {
	if u.skeleton != nil {
		return u.skeleton.fileName(index)
	}
	u.lineTable()
	if index < 0 || index >= int64(len(u.files)) {
		return ""
	}
	return u.absolute(u.files[index])
}

func (u *Unit) absolute(name string) string {
	if name == "" || strings.HasPrefix(name, "/") || u.Dir == "" {
		return name
	}
	return path.Join(u.Dir, name)
}

// LineAt returns the source file and line of the code at a program counter.
func (u *Unit) LineAt(pc uint64) (file string, number int) {
	lines := u.lineTable()
	i, _ := slices.BinarySearchFunc(lines, pc, func(l line, a uint64) int { return cmp.Compare(l.address, a+1) })
	for i--; i >= 0 && !lines[i].end; i-- {
		if lines[i].file == nil {
			return "", 0
		}
		if lines[i].line == 0 && lines[i].address != pc {
			continue // code without a line belongs to the line before it
		}
		return u.absolute(lines[i].file.Name), lines[i].line
	}
	return "", 0
}
