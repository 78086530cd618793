package module

import (
	"cmp"
	"debug/elf"
	"slices"
	"strings"

	"github.com/ianlancetaylor/demangle"
)

// Symbol is a symbol of an ELF file, with its address in the file.
type Symbol struct {
	Name     string
	Address  uint64
	Size     uint64
	Function bool
}

// Symbols finds symbols by address and by name.
type Symbols struct {
	list   []Symbol // by address
	byName map[string]int
}

// Symbols returns the symbols of the symbol table and the dynamic symbol table.
func (f *File) Symbols() *Symbols {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.symbols == nil {
		f.symbols = f.readSymbols()
	}
	return f.symbols
}

func (f *File) readSymbols() (s *Symbols) {
	s = &Symbols{byName: map[string]int{}}
	defer func() { _ = recover() }() // panics of debug/elf on a damaged table: keep what was read
	for _, read := range []func() ([]elf.Symbol, error){f.ELF.Symbols, f.ELF.DynamicSymbols} {
		list, err := read()
		if err != nil {
			continue // stripped, or static
		}
		for _, x := range list {
			kind := elf.ST_TYPE(x.Info)
			if x.Section == elf.SHN_UNDEF || x.Value == 0 || x.Name == "" || kind == elf.STT_TLS || kind == elf.STT_SECTION || kind == elf.STT_FILE {
				continue
			}
			s.list = append(s.list, Symbol{x.Name, x.Value, x.Size, kind == elf.STT_FUNC || kind == elf.STT_GNU_IFUNC})
		}
	}
	slices.SortStableFunc(s.list, func(a, b Symbol) int { return cmp.Compare(a.Address, b.Address) })
	for i, x := range s.list {
		if _, ok := s.byName[x.Name]; !ok {
			s.byName[x.Name] = i
		}
	}
	return s
}

// Len returns how many symbols there are.
func (s *Symbols) Len() int { return len(s.list) }

// Named returns the symbol with a name.
func (s *Symbols) Named(name string) (Symbol, bool) {
	i, ok := s.byName[name]
	if !ok {
		return Symbol{}, false
	}
	return s.list[i], true
}

// maxSymbolBack limits the symbols before an address that are examined.
const maxSymbolBack = 64

// At returns the symbol at an address. A symbol without a size extends to the next one.
func (s *Symbols) At(address uint64) (Symbol, bool) {
	i, _ := slices.BinarySearchFunc(s.list, address, func(x Symbol, a uint64) int { return cmp.Compare(x.Address, a+1) })
	var open *Symbol
	for n := 0; n < maxSymbolBack && i > 0; n++ {
		i--
		x := &s.list[i]
		if address < x.Address+x.Size {
			return *x, true
		}
		if x.Size == 0 && open == nil && n == 0 {
			open = x
		}
	}
	if open != nil {
		return *open, true
	}
	return Symbol{}, false
}

// Readable returns a symbol's name in the notation of its language.
func Readable(name string) string {
	if strings.HasPrefix(name, "_Z") || strings.HasPrefix(name, "_R") {
		if out, err := demangle.ToString(name, demangle.NoParams, demangle.NoEnclosingParams); err == nil {
			return out
		}
	}
	return name
}
