package coredump

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// madeCode is a function that the program made while it ran.
type madeCode struct {
	start, end uint64
	name       string
}

// Bounds of what is read of address maps.
const (
	maxMap       = 256 << 20 // bytes of a file
	maxGenerated = 4 << 20   // functions
	maxMapLine   = 64 << 10
)

// generatedAt returns the function at an address of code that the program made while it ran, from the address maps that runtimes
// write. ok is false if none names it.
func (d *Dump) generatedAt(address uint64) (f madeCode, ok bool) {
	d.generatedOnce.Do(func() { d.generated = d.readGenerated() })
	i, found := slices.BinarySearchFunc(d.generated, address, func(g madeCode, a uint64) int { return cmp.Compare(g.start, a) })
	if !found {
		i--
	}
	if i < 0 || address >= d.generated[i].end {
		return f, false
	}
	return d.generated[i], true
}

// readGenerated reads the address maps of the process: files of lines START SIZE NAME that end in -PID.map, in the folder for
// temporary files and those with debug files; and jitdump files, which are mapped, or end in -PID.dump in such a folder.
func (d *Dump) readGenerated() (out []madeCode) {
	if d.core.Process.ID == 0 {
		return nil
	}
	folders := slices.Clone(d.options.Modules.Debug)
	var dumps []string
	if !d.options.Modules.Alone {
		folders = append(folders, os.TempDir())
		for _, f := range d.core.Files {
			if strings.HasSuffix(f.Path, ".dump") {
				dumps = append(dumps, f.Path)
			}
		}
	}
	for _, folder := range folders {
		maps, _ := filepath.Glob(filepath.Join(folder, fmt.Sprintf("*-%d.map", d.core.Process.ID)))  // the pattern is valid
		more, _ := filepath.Glob(filepath.Join(folder, fmt.Sprintf("*-%d.dump", d.core.Process.ID))) // so is this
		dumps = append(dumps, more...)
		for _, path := range maps {
			out = append(out, readFile(path, addressMap)...)
		}
	}
	for _, path := range dumps {
		out = append(out, readFile(path, jitdump)...)
	}
	// Of functions at the same place, the last one replaced the others.
	slices.SortStableFunc(out, func(a, b madeCode) int { return cmp.Compare(a.start, b.start) })
	kept := out[:0]
	for _, g := range out {
		if n := len(kept); n > 0 && kept[n-1].start == g.start {
			kept[n-1] = g
			continue
		}
		kept = append(kept, g)
	}
	return kept
}

// readFile reads an address map; one that cannot be read gives no names.
func readFile(path string, read func(io.Reader) []madeCode) []madeCode {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil
	}
	return read(io.LimitReader(f, maxMap))
}

// addressMap reads lines of an address, a size and a name, the numbers in hexadecimal digits.
func addressMap(r io.Reader) (out []madeCode) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, maxMapLine)
	for lines.Scan() && len(out) < maxGenerated {
		start, rest, _ := strings.Cut(lines.Text(), " ")
		size, name, ok := strings.Cut(rest, " ")
		at, err := strconv.ParseUint(strings.TrimPrefix(start, "0x"), 16, 64)
		n, err2 := strconv.ParseUint(strings.TrimPrefix(size, "0x"), 16, 64)
		if ok && err == nil && err2 == nil && at+n > at && name != "" {
			out = append(out, madeCode{at, at + n, strings.ToValidUTF8(name, "�")})
		}
	}
	return out
}

// The records of the jitdump format that are read (version 1).
const (
	jitdumpMagic  = 0x4a695444
	jitdumpHeader = 16 // bytes before what a record has of its own
	codeLoad      = 0
	codeMove      = 1
	maxName       = 64 << 10
)

// jitdump reads the functions in a file of the jitdump format. A file that is cut off gives those before.
func jitdump(r io.Reader) (out []madeCode) {
	in := bufio.NewReaderSize(r, 1<<20)
	word := func(b []byte, at int) uint64 { return binary.LittleEndian.Uint64(b[at:]) }
	header := make([]byte, 12)
	if _, err := io.ReadFull(in, header); err != nil || binary.LittleEndian.Uint32(header) != jitdumpMagic {
		return nil
	}
	size := int64(binary.LittleEndian.Uint32(header[8:]))
	if size < 12 {
		return nil
	}
	if _, err := io.CopyN(io.Discard, in, size-12); err != nil {
		return nil
	}
	head := make([]byte, jitdumpHeader)
	for len(out) < maxGenerated {
		if _, err := io.ReadFull(in, head); err != nil {
			return out
		}
		kind, size := binary.LittleEndian.Uint32(head), int64(binary.LittleEndian.Uint32(head[4:]))-jitdumpHeader
		if size < 0 {
			return out
		}
		const fixed = 40 // of a load: process and thread (4 bytes each), address at run time, address of the code, size, index
		body := make([]byte, min(size, fixed+maxName))
		if _, err := io.ReadFull(in, body); err != nil {
			return out
		}
		if _, err := io.CopyN(io.Discard, in, size-int64(len(body))); err != nil {
			return out
		}
		switch {
		case kind == codeLoad && len(body) > fixed:
			name, _, _ := bytes.Cut(body[fixed:], []byte{0})
			if at, n := word(body, 16), word(body, 24); at+n > at {
				out = append(out, madeCode{at, at + n, strings.ToValidUTF8(string(name), "�")})
			}
		case kind == codeMove && len(body) >= 48:
			from, to, n := word(body, 16), word(body, 24), word(body, 32)
			for i := range out {
				if out[i].start == from && to+n > to {
					out[i].start, out[i].end = to, to+n
				}
			}
		}
	}
	return out
}
