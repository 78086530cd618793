package timeline

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"sort"

	"golang.org/x/sync/errgroup"

	"wraithology/core/event"
)

// regionSize is the unit, in bytes, in which memory events are posted.
const regionSize = 256

// maxCovered limits the bytes under which one event is posted.
const maxCovered = 64 << 10

// maxMoved limits the bytes under which one copy is posted.
const maxMoved = 16 << 20

// What an address key represents.
const (
	keyMemory = 1 // a region of memory
	keyMap    = 2 // a map
	keySync   = 3 // a channel, a lock, a wait group
)

// addressKey combines kind, process and address into one number (the finalizer of Steele, Lea and
// Flood's SplitMix64, 2014). A collision costs the decoding of an event that is then skipped.
func addressKey(what byte, process uint16, address uint64) uint64 {
	x := address ^ uint64(process)<<48 ^ uint64(what)<<60
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// keyTag is the tag of a map entry with an encoded key. The tag 0 means all entries.
func keyTag(encoded []byte) uint32 {
	h := uint32(2166136261) // FNV-1a (Fowler, Noll, Vo), 32 bits
	for _, b := range encoded {
		h = (h ^ uint32(b)) * 16777619
	}
	return h | 1
}

type rawPosting struct {
	key         uint64
	moment, tag uint32
}

// partitions is the number of parts in which the postings are sorted, so that only one or two are
// in memory at a time. The part is the top bits of the key.
const partitions = 64

type addressWriter struct {
	dir   string
	parts [partitions]partition
	n     int64
	err   error
}

// partition is one part of the postings. Postings beyond the buffer are in a file.
type partition struct {
	f   *os.File
	buf []rawPosting
	n   int
}

const partitionBuffer = 2048

func (w *addressWriter) add(key uint64, m uint32, tag uint32) {
	p := &w.parts[key>>58]
	if len(p.buf) == partitionBuffer {
		w.spill(int(key >> 58))
	}
	p.buf = append(p.buf, rawPosting{key, m, tag})
	p.n++
	w.n++
}

func (w *addressWriter) spill(i int) {
	p := &w.parts[i]
	if p.f == nil && w.err == nil {
		p.f, w.err = os.Create(filepath.Join(w.dir, fmt.Sprintf("part%d", i)))
	}
	if w.err == nil {
		_, w.err = p.f.Write(asBytes(p.buf))
	}
	p.buf = p.buf[:0]
}

// all returns a part's postings in order and removes its file.
func (p *partition) all() ([]rawPosting, error) {
	if p.f == nil {
		return p.buf, nil
	}
	defer os.Remove(p.f.Name())
	defer p.f.Close()
	raw := make([]rawPosting, p.n)
	copy(raw[p.n-len(p.buf):], p.buf)
	if _, err := p.f.ReadAt(asBytes(raw[:p.n-len(p.buf)]), 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("sort the timeline's addresses: %w", err)
	}
	return raw, nil
}

func (w *addressWriter) abandon() {
	for _, p := range w.parts {
		if p.f != nil {
			p.f.Close()
		}
	}
}

// end groups the postings by key and writes them.
func (w *addressWriter) end() error {
	keys, err := newColumn[keyRecord](w.dir, keysFile)
	if err = errors.Join(w.err, err); err != nil {
		return err
	}
	posted, err := newColumn[postingRecord](w.dir, postedFile)
	if err != nil {
		return err
	}
	type result struct {
		keys   []keyRecord
		posted []postingRecord
	}
	const ahead = 2 // parts in memory
	var results [partitions]chan result
	for i := range results {
		results[i] = make(chan result)
	}
	var workers, starter errgroup.Group
	workers.SetLimit(ahead)
	starter.Go(func() error {
		for i := range w.parts {
			workers.Go(func() error {
				k, p, err := group(&w.parts[i])
				results[i] <- result{k, p}
				return err
			})
		}
		return workers.Wait()
	})
	for i := range results {
		r := <-results[i]
		from := uint32(posted.n)
		for _, k := range r.keys {
			k.at += from
			keys.add(k)
		}
		posted.flush()
		if posted.err == nil && len(r.posted) > 0 {
			_, posted.err = posted.f.Write(asBytes(r.posted))
			posted.n += int64(len(r.posted))
		}
	}
	return errors.Join(starter.Wait(), keys.close(), posted.close())
}

// group sorts one part by key and keeps the order of the moments.
func group(part *partition) ([]keyRecord, []postingRecord, error) {
	raw, err := part.all()
	if err != nil || len(raw) == 0 {
		return nil, nil, err
	}
	// Count by key in an open hash table, place the groups in the order of their
	// keys, then scatter.
	size := 1
	for size < 2*len(raw)+2 {
		size *= 2
	}
	table := make([]uint32, size) // index into keys, plus one
	var keys []keyRecord
	for _, r := range raw {
		s := slotOf(table, keys, r.key)
		if *s == 0 {
			keys = append(keys, keyRecord{key: r.key})
			*s = uint32(len(keys))
		}
		keys[*s-1].count++
	}
	slices.SortFunc(keys, func(a, b keyRecord) int { return cmp.Compare(a.key, b.key) })
	clear(table)
	at := uint32(0)
	for i := range keys {
		*slotOf(table, keys, keys[i].key) = uint32(i + 1)
		keys[i].at = at
		at += keys[i].count
		keys[i].count = 0
	}
	posted := make([]postingRecord, len(raw))
	for _, r := range raw {
		k := &keys[*slotOf(table, keys, r.key)-1]
		posted[k.at+k.count] = postingRecord{r.moment, r.tag}
		k.count++
	}
	return keys, posted, nil
}

func slotOf(table []uint32, keys []keyRecord, key uint64) *uint32 {
	mask := uint64(len(table) - 1)
	for i := key & mask; ; i = (i + 1) & mask {
		if table[i] == 0 || keys[table[i]-1].key == key {
			return &table[i]
		}
	}
}

// postedUnder returns the postings of a key.
func (t *Timeline) postedUnder(key uint64) []postingRecord {
	i := sort.Search(t.keys.len(), func(i int) bool { return t.keys.ref(i).key >= key })
	if i == t.keys.len() || t.keys.ref(i).key != key {
		return nil
	}
	k := t.keys.ref(i)
	return t.posted.slice(int(k.at), int(k.at+k.count))
}

func upTo(list []postingRecord, m event.Moment) int {
	return sort.Search(len(list), func(i int) bool { return event.Moment(list[i].moment) > m })
}

// maxRegions limits the regions of one value.
const maxRegions = maxCovered / regionSize

// Covered is a moment with the contents of the bytes from From to To, clipped to the requested
// ones.
type Covered struct {
	At       event.Moment
	From, To uint64
}

// Covering yields the events at or before m, latest first, with contents of bytes from address to
// address+size.
func (t *Timeline) Covering(process uint16, address, size uint64, m event.Moment) iter.Seq[Covered] {
	return covering(t.regions(process, address, size, m, false))
}

// CoveringAfter yields the events after m, earliest first, with contents of bytes from address to
// address+size.
func (t *Timeline) CoveringAfter(process uint16, address, size uint64, m event.Moment) iter.Seq[Covered] {
	return covering(t.regions(process, address, size, m, true))
}

// covering merges the postings of regions.
func covering(regions []region) iter.Seq[Covered] {
	return func(yield func(Covered) bool) {
		for {
			c := Covered{At: event.NoMoment}
			for i := range regions {
				x := &regions[i]
				if p := x.next(); p != nil {
					if at := event.Moment(p.moment); c.At == event.NoMoment || (at < c.At) == x.ahead {
						c.At = at
					}
				}
			}
			if c.At == event.NoMoment {
				return
			}
			for i := range regions {
				x := &regions[i]
				p := x.next()
				if p == nil || event.Moment(p.moment) != c.At {
					continue
				}
				from, to := x.base+uint64(max(p.tag&0xff, x.lo)), x.base+uint64(min(p.tag>>8&0xff, x.hi))+1
				x.drop()
				if c.To == 0 {
					c.From = from
				}
				c.To = to
			}
			if !yield(c) {
				return
			}
		}
	}
}

// region is a region of memory with postings, of which the bytes lo to hi are wanted. They are taken
// from the end of the list, or ahead from its beginning.
type region struct {
	list   []postingRecord
	base   uint64
	lo, hi uint32
	ahead  bool
}

// next returns the next posting of the wanted bytes, or nil.
func (x *region) next() *postingRecord {
	for ; len(x.list) > 0; x.drop() {
		p := &x.list[len(x.list)-1]
		if x.ahead {
			p = &x.list[0]
		}
		if p.tag&0xff <= x.hi && p.tag>>8&0xff >= x.lo {
			return p
		}
	}
	return nil
}

func (x *region) drop() {
	if x.ahead {
		x.list = x.list[1:]
	} else {
		x.list = x.list[:len(x.list)-1]
	}
}

// regions returns the regions of an address with the postings at or before m, or ahead of it.
func (t *Timeline) regions(process uint16, address, size uint64, m event.Moment, ahead bool) (regions []region) {
	size = max(size, 1)
	first, last := address/regionSize, (address+size-1)/regionSize
	if last < first || last-first >= maxRegions {
		last = first + maxRegions - 1
	}
	for r := first; r <= last; r++ {
		list := t.postedUnder(addressKey(keyMemory, process, r))
		if n := upTo(list, m); ahead {
			list = list[n:]
		} else {
			list = list[:n]
		}
		if len(list) == 0 {
			continue
		}
		x := region{list, r * regionSize, 0, regionSize - 1, ahead}
		if r == first {
			x.lo = uint32(address % regionSize)
		}
		if r == last && last == (address+size-1)/regionSize {
			x.hi = uint32((address + size - 1) % regionSize)
		}
		regions = append(regions, x)
	}
	return regions
}

// MapEvents yields the moments at or before m, latest first, with entries of a map; with an encoded
// key, only those with its entry.
func (t *Timeline) MapEvents(process uint16, address uint64, key []byte, m event.Moment) iter.Seq[event.Moment] {
	list := t.postedUnder(addressKey(keyMap, process, address))
	list = list[:upTo(list, m)]
	tag := uint32(0)
	if key != nil {
		tag = keyTag(key)
	}
	return func(yield func(event.Moment) bool) {
		for i := len(list) - 1; i >= 0; i-- {
			if tag != 0 && list[i].tag != 0 && list[i].tag != tag {
				continue
			}
			if !yield(event.Moment(list[i].moment)) {
				return
			}
		}
	}
}

// MapEventsAfter yields the moments after m, earliest first, with entries of a map.
func (t *Timeline) MapEventsAfter(process uint16, address uint64, m event.Moment) iter.Seq[event.Moment] {
	list := t.postedUnder(addressKey(keyMap, process, address))
	list = list[upTo(list, m):]
	return func(yield func(event.Moment) bool) {
		for _, p := range list {
			if !yield(event.Moment(p.moment)) {
				return
			}
		}
	}
}

// SyncEvents yields the moments at or before m, latest first, of operations on the channel, lock or
// wait group at an address.
func (t *Timeline) SyncEvents(process uint16, address uint64, m event.Moment) iter.Seq[event.Moment] {
	list := t.postedUnder(addressKey(keySync, process, address))
	list = list[:upTo(list, m)]
	return func(yield func(event.Moment) bool) {
		for i := len(list) - 1; i >= 0; i-- {
			if !yield(event.Moment(list[i].moment)) {
				return
			}
		}
	}
}
