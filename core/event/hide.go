package event

import (
	"encoding/binary"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"wraithology/core/mask"
)

// Hider masks encoded values: what is secret becomes a redacted value, and what is secret in a text becomes mask.Masked. It is not safe for concurrent
// use.
type Hider struct {
	mask    *mask.Mask
	secrets *mask.Secrets
	types   Types
	known   []*hiddenType // by number
	looked  map[*Type]*hiddenType
	names   map[[2]string]mask.Level
	// refs are the addresses of contents that have a masked name, with how much of them is masked.
	refs    map[uint64]mask.Level
	changed bool
	buffer  []byte
	// Gathers is set to find secrets under names alone: texts are not looked through.
	Gathers bool
	// References masks references under a masked name too: what they lead to is not looked at by name again.
	References bool
	// Count is the number of values and texts that were masked.
	Count int64
}

// hiddenType is what is known of a type.
type hiddenType struct {
	level  mask.Level   // of the type's own name
	fields []mask.Level // of a struct
	plain  bool         // it cannot contain texts or references, and no name in it is masked
	// isNameless is set if no name in it is masked: what is secret in it is secret as a text alone.
	isNameless bool
	of         *Type
}

// NewHider returns a hider of one process's values, which adds the secrets that it finds to secrets.
func NewHider(m *mask.Mask, secrets *mask.Secrets, types Types) *Hider {
	return &Hider{mask: m, secrets: secrets, types: types, looked: map[*Type]*hiddenType{}, names: map[[2]string]mask.Level{}, refs: map[uint64]mask.Level{}}
}

// Name returns how much is masked of what has a name.
func (h *Hider) Name(on, name string) mask.Level {
	key := [2]string{on, name}
	level, has := h.names[key]
	if !has {
		level = h.mask.Name(on, name)
		h.names[key] = level
	}
	return level
}

// Contents returns how much is masked at an address, because of the name of a reference that was there just before.
func (h *Hider) Contents(address uint64) mask.Level { return h.refs[address] }

// Follow sets the references of a thread, to which those are added whose name is masked.
func (h *Hider) Follow(references map[uint64]mask.Level) { h.refs = references }

// Text masks a text.
func (h *Hider) Text(s string) string {
	if h.Gathers {
		return s
	}
	if h.secrets.Is(s) {
		h.changed = true
		h.Count++
		return mask.Masked
	}
	within, a := h.secrets.Within(s)
	out, b := h.mask.Text(within, h.secrets.Add)
	if a || b {
		h.changed = true
		h.Count++
	}
	return out
}

// Values masks n values of an event, value i as levels[i] says. It reports whether something has changed; if not, the bytes are as they were. Malformed
// bytes stay as they are: they are not read as values either.
func (h *Hider) Values(data []byte, n int, level func(i int) mask.Level) ([]byte, bool) {
	h.changed = false
	if h.isHarmless(data, n, level) {
		return data, false
	}
	c := &cursor{b: data}
	out := h.buffer[:0]
	defer func() { h.buffer = out[:0] }()
	for i := range n {
		id := c.uvarint()
		out = h.item(binary.AppendUvarint(out, id), c, TypeID(id), level(i), 0)
	}
	return h.end(c, data, out)
}

// isHarmless reports whether no value of an event can be secret: most events have numbers alone.
func (h *Hider) isHarmless(data []byte, n int, level func(i int) mask.Level) bool {
	c := cursor{b: data}
	for i := range n {
		t := h.typed(TypeID(c.uvarint()))
		if t == nil || level(i) != mask.Nothing || !t.isNothing() && !(h.Gathers && t.isNameless) {
			return false
		}
		if i < n-1 {
			c.skip(0)
		}
	}
	return true
}

func (h *Hider) end(c *cursor, data, out []byte) ([]byte, bool) {
	if c.err != nil || !h.changed {
		return data, false
	}
	return append(slices.Clone(out), c.b...), true
}

// Element masks the key and value of an event of a map: a name that is the key decides about the value.
func (h *Hider) Element(data []byte, level mask.Level) ([]byte, bool) {
	if key, err := DecodeNth(data, 1, 0, h.types); err == nil {
		level = max(level, h.Name(mask.OnField, textOf(key)))
	}
	return h.Values(data, 2, func(i int) mask.Level {
		if i == 0 {
			return mask.Nothing
		}
		return level
	})
}

// textOf returns the text of a value, also in an interface; empty for others.
func textOf(v Value) string {
	if v.Form() == Interface && len(v.Items) == 1 {
		v = v.Items[0]
	}
	if v.State != Known || v.Form() != Text {
		return ""
	}
	return v.Text
}

// Entries masks the entries of a map, as DecodeEntries reads them.
func (h *Hider) Entries(data []byte, level mask.Level) ([]byte, bool) {
	h.changed = false
	c := &cursor{b: data}
	id := c.uvarint()
	out := binary.AppendUvarint(nil, id)
	t := h.types(TypeID(id))
	if t == nil {
		return data, false
	}
	out, begins := h.beginning(out, c)
	n := c.array()
	out = appendHead(out, majorArray, n)
	of := level
	for i := uint64(0); i < n && c.err == nil; i++ {
		if i%2 == 0 {
			key := *c
			of = max(level, h.Name(mask.OnField, textOf(decodeItem(&key, t.Key, h.types, 1))))
			out = h.item(out, c, t.Key, mask.Nothing, 1)
			continue
		}
		out = h.item(out, c, t.Elem, of, 1)
	}
	if begins {
		out = appendHead(out, majorUint, c.uint())
	}
	return h.end(c, data, out)
}

// beginning copies the head of a TagBeginning if one is next.
func (h *Hider) beginning(out []byte, c *cursor) ([]byte, bool) {
	from := c.b
	begins := c.beginning()
	return append(out, from[:len(from)-len(c.b)]...), begins
}

// Spread masks consecutive elements, as DecodeSpread reads them. Bytes that are, or contain, a secret are masked one by one.
func (h *Hider) Spread(data []byte, level mask.Level) ([]byte, bool) {
	h.changed = false
	c := &cursor{b: data}
	id := c.uvarint()
	out := binary.AppendUvarint(nil, id)
	if h.types(TypeID(id)) == nil {
		return data, false
	}
	if c.peek()>>5 == majorBytes {
		_, n, _ := c.head()
		text := string(c.take(n))
		if c.err != nil {
			return data, false
		}
		if level == mask.Nothing {
			if h.Text(text); !h.changed {
				return data, false
			}
		} else if text != "" {
			h.found(text)
		} else {
			return data, false
		}
		out = appendHead(out, majorArray, n)
		for range n {
			out = appendRedacted(out)
		}
		return append(out, c.b...), true
	}
	n := c.array()
	out = appendHead(out, majorArray, n)
	for i := uint64(0); i < n && c.err == nil; i++ {
		out = h.item(out, c, TypeID(id), level, 1)
	}
	return h.end(c, data, out)
}

// appendRedacted appends the item of a value that is secret.
func appendRedacted(b []byte) []byte {
	return append(appendHead(b, majorTag, TagRedacted), majorSimple<<5|simpleNull)
}

// found notes a text that is secret because of its name.
func (h *Hider) found(text string) {
	h.changed = true
	h.Count++
	h.secrets.Add(text)
}

// item copies one item, masked.
func (h *Hider) item(out []byte, c *cursor, id TypeID, level mask.Level, depth int) []byte {
	if depth > maxDepth {
		c.fail()
		return out
	}
	from := c.b
	rest := func() []byte { return append(out, from[:len(from)-len(c.b)]...) }
	if c.redacted() {
		return rest()
	}
	if isNull, isUndefined := c.null(); isNull || isUndefined {
		return rest()
	}
	known := h.typed(id)
	if known == nil || id == 0 {
		c.skip(depth)
		return rest()
	}
	t := known.of
	if level = max(level, known.level); level == mask.Nothing && known.plain {
		c.skip(depth)
		return rest()
	}
	begins := c.beginning()
	head := from[:len(from)-len(c.b)]
	switch t.Form {
	case Struct, Array, Interface:
		out = h.parts(append(out, head...), c, t, known, level, depth)
	case Pointer, Slice, Chan, Map:
		v := Value{Type: t}
		decodeReference(c, &v)
		if level != mask.Nothing && v.Address != 0 {
			h.refs[v.Address] = level
		}
		out = rest()
	case Text:
		return h.text(out, c, t, level, begins, head)
	case Int, Uint, Float, Complex, Opaque:
		c.skip(depth)
		if level < mask.All {
			out = rest()
			break
		}
		if begins {
			c.uint()
		}
		h.changed = true
		h.Count++
		return appendRedacted(out)
	default:
		c.skip(depth)
		out = rest()
	}
	if begins {
		out = appendHead(out, majorUint, c.uint())
	}
	return out
}

// text copies a text, masked; head is that of a beginning.
func (h *Hider) text(out []byte, c *cursor, t *Type, level mask.Level, begins bool, head []byte) []byte {
	major, n, _ := c.head()
	s := string(c.take(n))
	whole := uint64(0)
	if begins {
		whole = c.uint()
	}
	if level != mask.Nothing && s != "" {
		h.found(s)
		return appendRedacted(out)
	}
	if t.Name == ObjectType {
		s = h.object(s)
	}
	s = h.Text(s)
	out = append(append(out, head...), appendHead(nil, major, uint64(len(s)))...)
	out = append(out, s...)
	if begins {
		out = appendHead(out, majorUint, whole)
	}
	return out
}

// parts copies the parts of a value, masked.
func (h *Hider) parts(out []byte, c *cursor, t *Type, known *hiddenType, level mask.Level, depth int) []byte {
	n := c.array()
	switch t.Form {
	case Struct:
		out = appendHead(out, majorArray, n)
		for i := uint64(0); i < n && c.err == nil; i++ {
			if i < uint64(len(t.Fields)) {
				out = h.item(out, c, t.Fields[i].Type, max(level, known.fields[i]), depth+1)
				continue
			}
			from := c.b
			c.skip(depth + 1)
			out = append(out, from[:len(from)-len(c.b)]...)
		}
	case Array:
		out = appendHead(out, majorArray, n)
		for i := uint64(0); i < n && c.err == nil; i++ {
			out = h.item(out, c, t.Elem, level, depth+1)
		}
	case Interface:
		if n != 2 {
			c.fail()
		}
		dynamic := c.uint()
		out = appendHead(appendHead(out, majorArray, n), majorUint, dynamic)
		out = h.item(out, c, TypeID(dynamic), level, depth+1)
	}
	return out
}

// maxTypeDepth limits how deep types are looked into; what is deeper is looked at value by value.
const maxTypeDepth = 8

// typed returns what is known of a type with a number; nil if there is no such type.
func (h *Hider) typed(id TypeID) *hiddenType {
	if int(id) < len(h.known) && h.known[id] != nil {
		return h.known[id]
	}
	t := h.types(id)
	if t == nil {
		return nil
	}
	x := h.typeOf(t, 0)
	const most = 1 << 20 // of a table that is not an attack
	if id < most {
		for int(id) >= len(h.known) {
			h.known = append(h.known, nil)
		}
		h.known[id] = x
	}
	return x
}

func (h *Hider) typeOf(t *Type, depth int) *hiddenType {
	if x, has := h.looked[t]; has {
		return x
	}
	x := &hiddenType{level: h.Name(mask.OnType, t.Name), of: t}
	h.looked[t] = x // of a type that contains itself, in a log that is damaged
	nameless := x.level == mask.Nothing
	switch t.Form {
	case Bool, Int, Uint, Float, Complex, Opaque, Func:
		x.plain, x.isNameless = true, nameless
	case Array:
		if elem := h.types(t.Elem); elem != nil && depth < maxTypeDepth {
			of := h.typeOf(elem, depth+1)
			x.plain, x.isNameless = of.isNothing(), nameless && of.isNameless
		}
	case Struct:
		x.plain, x.isNameless = depth < maxTypeDepth, nameless && depth < maxTypeDepth
		for _, f := range t.Fields {
			level := h.Name(mask.OnField, f.Name)
			x.fields = append(x.fields, level)
			t := h.types(f.Type)
			if t == nil || level != mask.Nothing || depth >= maxTypeDepth {
				x.plain, x.isNameless = false, false
				continue
			}
			of := h.typeOf(t, depth+1)
			x.plain, x.isNameless = x.plain && of.isNothing(), x.isNameless && of.isNameless
		}
	case Text:
		x.isNameless = nameless && t.Name != ObjectType
	case Pointer, Slice, Chan:
		x.isNameless = nameless
	}
	return x
}

func (x *hiddenType) isNothing() bool { return x.plain && x.level == mask.Nothing }

// object masks the members of a text in the notation of JSON by their names.
func (h *Hider) object(s string) string {
	d := json.NewDecoder(strings.NewReader(s))
	d.UseNumber()
	var of any
	if d.Decode(&of) != nil || d.More() {
		return s
	}
	masked, is := h.member(of, mask.Nothing)
	if !is {
		return s
	}
	text, err := json.Marshal(masked)
	if err != nil {
		return s
	}
	return string(text)
}

// member masks a value of JSON.
func (h *Hider) member(of any, level mask.Level) (masked any, is bool) {
	switch x := of.(type) {
	case map[string]any:
		for name, value := range x {
			if v, changed := h.member(value, max(level, h.Name(mask.OnField, name))); changed {
				x[name], is = v, true
			}
		}
	case []any:
		for i, value := range x {
			if v, changed := h.member(value, level); changed {
				x[i], is = v, true
			}
		}
	case string:
		if level != mask.Nothing && x != "" && x != mask.Masked {
			h.found(x)
			return mask.Masked, true
		}
	case json.Number:
		if level == mask.All {
			h.changed = true
			h.Count++
			return mask.Masked, true
		}
	}
	return of, is
}

// Masked returns tables in which texts are masked: names of spans, the command, gaps, and the first lines of a log. Source text keeps everything but the
// secrets that were found. The tables themselves stay as they are.
func (t *Tables) Masked(h *Hider) *Tables {
	out := *t
	x := &out.Header
	x.Command, x.Program, x.Detail = h.Arguments(x.Command), h.Text(x.Program), h.Text(x.Detail)
	if x.Reading != nil {
		reading := *x.Reading
		reading.Samples, reading.FirstUnread = h.lines(reading.Samples), h.lines(reading.FirstUnread)
		x.Reading = &reading
	}
	out.Processes = slices.Clone(t.Processes)
	for i := range out.Processes {
		p := &out.Processes[i]
		p.Program, p.Args, p.Outer = h.Text(p.Program), h.Arguments(p.Args), h.named(p.Outer)
	}
	out.Ends = maps.Clone(t.Ends)
	for id, e := range out.Ends {
		e.Crash, e.Trouble = h.Text(e.Crash), h.Text(e.Trouble)
		out.Ends[id] = e
	}
	out.Gaps = slices.Clone(t.Gaps)
	for i := range out.Gaps {
		out.Gaps[i].What = h.Text(out.Gaps[i].What)
	}
	if t.Header.Kind != "" {
		out.Functions = make(map[FunctionID]Function, len(t.Functions))
		for id, f := range t.Functions {
			f.Name, f.Outer = h.Text(f.Name), h.named(f.Outer)
			out.Functions[id] = f
		}
	}
	out.Files = make(map[FileID]File, len(t.Files))
	for id, f := range t.Files {
		f.Text, _ = h.secrets.Within(f.Text)
		out.Files[id] = f
	}
	return &out
}

// Arguments masks the arguments of a command: those after a flag with a secret name, too.
func (h *Hider) Arguments(list []string) []string {
	list = slices.Clone(list)
	for i := range list {
		if i > 0 && strings.HasPrefix(list[i-1], "-") && h.Name(mask.OnName, strings.TrimLeft(list[i-1], "-")) != mask.Nothing {
			h.found(list[i])
			list[i] = mask.Masked
		}
		list[i] = h.Text(list[i])
	}
	return list
}

// named masks values with names, as those of a whole process.
func (h *Hider) named(list []Named) []Named {
	list = slices.Clone(list)
	for i := range list {
		list[i].Data, _ = h.Values(list[i].Data, 1, func(int) mask.Level { return h.Name(mask.OnAttribute, list[i].Name) })
	}
	return list
}

func (h *Hider) lines(list []ReadLine) []ReadLine {
	list = slices.Clone(list)
	for i := range list {
		x := &list[i]
		x.Text, x.Thread, x.Logger, x.Message = h.Text(x.Text), h.Text(x.Thread), h.Text(x.Logger), h.Text(x.Message)
	}
	return list
}
