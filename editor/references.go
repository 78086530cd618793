package editor

import (
	"maps"
	"slices"

	"wraithology/core/ask"
)

// references are the numbers by which an editor names frames, values and files. Those of frames and values hold until the
// replay goes on, those of files for the whole session.
type references struct {
	next    int
	frames  map[int]ask.Place
	holders map[int]holder
	files   map[int]string
}

// holder is something with values in it: a scope of a frame, or the value at a path.
type holder struct {
	place   ask.Place
	scope   string
	path    string
	count   int
	indexed bool
}

func newReferences() references {
	return references{frames: map[int]ask.Place{}, holders: map[int]holder{}, files: map[int]string{}}
}

// forget forgets the frames and values. Their numbers are not used again.
func (r *references) forget() { clear(r.frames); clear(r.holders) }

func (r *references) frame(p ask.Place) int {
	r.next++
	r.frames[r.next] = p
	return r.next
}

func (r *references) values(h holder) int {
	r.next++
	r.holders[r.next] = h
	return r.next
}

func (r *references) file(name string) int {
	for id, have := range r.files {
		if have == name {
			return id
		}
	}
	id := len(r.files) + 1
	r.files[id] = name
	return id
}

func (r *references) frameIDs() []int { return slices.Sorted(maps.Keys(r.frames)) }
