package timeline

import (
	"context"
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/mask"
)

// masking masks the events of a log while its timeline is built. What a rule finds under a name is looked for everywhere: the same text is secret in other
// variables, in messages and in outputs. Of a log it is gathered first; of evidence that comes only once, from where it is found on.
type masking struct {
	mask    *mask.Mask
	log     *event.Tables
	secrets *mask.Secrets
	hiders  map[uint16]*event.Hider // by process
	// variables are the levels of the variables of functions, sites those of what lines store.
	functions []*hiddenFunction
	sites     map[event.SiteID]mask.Level
	on        string // what variables are: of a program, or attributes
}

type hiddenFunction struct {
	variables  []mask.Level
	parameters []mask.Level
	results    []mask.Level
	isSecret   bool
}

// hiddenThread is where a thread is.
type hiddenThread struct {
	stack   []event.FunctionID
	current int // in stack; -1 for none
	site    event.SiteID
	hider   *event.Hider
	// references are the addresses of what the last events had under a masked name.
	references map[uint64]mask.Level
}

func newMasking(log Source) *masking {
	m := &masking{mask: log.Mask, log: log.Tables, secrets: mask.NewSecrets(), hiders: map[uint16]*event.Hider{}, sites: map[event.SiteID]mask.Level{}, on: mask.OnName}
	if log.Tables.Header.Kind != "" {
		m.on = mask.OnAttribute
	}
	return m
}

func (m *masking) thread(process uint16) *hiddenThread {
	h := m.hiders[process]
	if h == nil {
		h = event.NewHider(m.mask, m.secrets, m.log.Types(process))
		m.hiders[process] = h
	}
	return &hiddenThread{current: -1, hider: h, references: map[uint64]mask.Level{}}
}

// gather finds the secrets of a log. It reads the log once more, if there is a name in it at all under which something can be secret.
func (m *masking) gather(ctx context.Context, log Source) error {
	if !m.hasSecretNames() {
		return nil
	}
	gathers := func(is bool) {
		for _, h := range m.hiders {
			h.Gathers = is
		}
	}
	for _, block := range log.Blocks {
		m.thread(block.Process)
	}
	gathers(true)
	defer gathers(false)
	blocks := make(chan unpackedBlock, 2) // unpacked ahead
	reading, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		defer close(blocks)
		for _, block := range log.Blocks {
			payload, err := log.Payload(block)
			select {
			case blocks <- unpackedBlock{payload, err}:
			case <-reading.Done():
				return
			}
		}
	}()
	var th *hiddenThread
	n := 0
	for got := range blocks {
		block := log.Blocks[n]
		if before := n - 1; th == nil || log.Blocks[before].Process != block.Process || log.Blocks[before].Thread != block.Thread {
			th = m.thread(block.Process)
		}
		if n++; got.err != nil {
			continue // the merge notes the loss
		}
		walk := event.NewWalk(got.payload, block.Base)
		for walk.Next() {
			m.event(th, walk.Event())
		}
	}
	if err := ctx.Err(); err != nil {
		return fmt.Errorf("mask the log: %w", err)
	}
	for _, h := range m.hiders {
		h.Count = 0
	}
	return nil
}

func (m *masking) hasSecretNames() bool {
	for id := range m.log.Functions {
		if m.function(id).isSecret {
			return true
		}
	}
	is := false
	m.log.EachType(func(process uint16, t *event.Type) {
		is = is || t.Form == event.Map || m.mask.Name(mask.OnType, t.Name) != mask.Nothing
		for _, f := range t.Fields {
			is = is || m.mask.Name(mask.OnField, f.Name) != mask.Nothing
		}
	})
	return is
}

// apply masks the event of a cursor.
func (m *masking) apply(c *cursor) {
	if c.hidden == nil {
		c.hidden = m.thread(c.process)
	}
	if c.walk != nil {
		c.raw = nil
	}
	data, changed := m.event(c.hidden, c.e)
	if !changed {
		return
	}
	raw := c.bytes()
	head := raw[:len(raw)-len(c.e.Data)]
	c.raw = append(append(make([]byte, 0, len(head)+len(data)), head...), data...)
	c.e.Data = data
}

// event follows a thread, and returns the data of its next event, masked.
func (m *masking) event(th *hiddenThread, e event.Event) (data []byte, changed bool) {
	h := th.hider
	switch e.Kind {
	case event.Memory, event.Spread, event.Entries, event.Snapshot: // contents of what the event before refers to
		h.Follow(th.references)
	default:
		if len(th.references) > 0 {
			clear(th.references)
		}
		h.Follow(th.references)
	}
	switch e.Kind {
	case event.Enter:
		th.stack = append(th.stack, event.FunctionID(e.ID))
		th.current = len(th.stack) - 1
		return h.Values(e.Data, e.Args, at(m.function(event.FunctionID(e.ID)).parameters))
	case event.Leave, event.Unwind:
		f := m.current(th)
		if th.current >= 0 {
			th.stack = th.stack[:th.current]
			th.current--
		}
		return h.Values(e.Data, e.Args, at(f.results))
	case event.Open:
		if depth, f := event.DecodeOpen(e.Data); depth == uint64(len(th.stack)+1) {
			th.stack = append(th.stack, f)
			th.current = len(th.stack) - 1
		}
	case event.Resume:
		if n := int(e.ID); n >= 1 && n <= len(th.stack) {
			th.current = n - 1
		}
	case event.Line:
		th.site = event.SiteID(e.ID)
	case event.Write, event.Cell:
		return h.Values(e.Data, e.Args, all(at(m.current(th).variables)(int(e.ID))))
	case event.Fields, event.Message, event.Error:
		return h.Values(e.Data, e.Args, m.attributes(e))
	case event.Memory:
		return h.Values(e.Data, e.Args, all(h.Contents(e.Address)))
	case event.Spread:
		return h.Spread(e.Data, h.Contents(e.Address))
	case event.Entries:
		return h.Entries(e.Data, h.Contents(e.Address))
	case event.Element:
		return h.Element(e.Data, m.stored(th.site))
	case event.Store:
		return h.Values(e.Data, e.Args, all(m.stored(th.site)))
	case event.Snapshot:
		return m.snapshot(th, e)
	case event.Delete, event.Send, event.Receive, event.Panic, event.Recover, event.Failure, event.Output:
		return h.Values(e.Data, e.Args, all(mask.Nothing))
	}
	return e.Data, false
}

func (m *masking) snapshot(th *hiddenThread, e event.Event) ([]byte, bool) {
	h := th.hider
	switch of := event.SnapshotOf(e.ID); of {
	case event.SnapshotMemory:
		return h.Values(e.Data, e.Args, all(h.Contents(e.Address)))
	case event.SnapshotSpread:
		return h.Spread(e.Data, h.Contents(e.Address))
	case event.SnapshotEntries:
		return h.Entries(e.Data, h.Contents(e.Address))
	default:
		return h.Values(e.Data, e.Args, all(at(m.current(th).variables)(int(of-event.SnapshotVariable))))
	}
}

// all is the same level for all values of an event.
func all(level mask.Level) func(int) mask.Level { return func(int) mask.Level { return level } }

// at is the level of each value of an event in a list.
func at(levels []mask.Level) func(int) mask.Level {
	return func(i int) mask.Level {
		if i < 0 || i >= len(levels) {
			return mask.Nothing
		}
		return levels[i]
	}
}

// attributes are the levels of the values of an event with attributes.
func (m *masking) attributes(e event.Event) func(int) mask.Level {
	site, ok := m.log.Sites[event.SiteID(e.ID)]
	if !ok {
		return all(mask.Nothing)
	}
	variables := at(m.function(site.Function).variables)
	return func(i int) mask.Level {
		if i >= len(site.Values) {
			return mask.Nothing
		}
		return variables(int(site.Values[i]))
	}
}

var noHidden = &hiddenFunction{}

func (m *masking) current(th *hiddenThread) *hiddenFunction {
	if th.current < 0 || th.current >= len(th.stack) {
		return noHidden
	}
	return m.function(th.stack[th.current])
}

func (m *masking) function(id event.FunctionID) *hiddenFunction {
	if int(id) < len(m.functions) && m.functions[id] != nil {
		return m.functions[id]
	}
	x, has := m.log.Functions[id]
	if !has {
		return noHidden
	}
	f := m.levels(x)
	for int(id) >= len(m.functions) {
		m.functions = append(m.functions, nil)
	}
	m.functions[id] = f
	return f
}

func (m *masking) levels(x event.Function) *hiddenFunction {
	f := &hiddenFunction{}
	for _, v := range x.Variables {
		level := m.mask.Name(m.on, v.Name)
		f.variables, f.isSecret = append(f.variables, level), f.isSecret || level != mask.Nothing
	}
	of := func(list []event.VariableID, besides mask.Level) (levels []mask.Level) {
		for _, v := range list {
			levels = append(levels, max(besides, at(f.variables)(int(v))))
		}
		return levels
	}
	f.parameters = of(x.Parameters, mask.Nothing)
	results := mask.Nothing
	if m.on == mask.OnName { // what readPassword returns has no name of its own
		results = min(m.mask.Name(mask.OnName, lastName(x.Name)), mask.Texts)
	}
	f.results = of(x.Results, results)
	f.isSecret = f.isSecret || results != mask.Nothing && len(f.results) > 0
	return f
}

// lastName is the name of a function without its package and type.
func lastName(function string) string { return function[strings.LastIndexByte(function, '.')+1:] }

// stored is how much is masked of what a line stores in memory: as much as of the most secret name that it writes.
func (m *masking) stored(id event.SiteID) mask.Level {
	level, has := m.sites[id]
	if has {
		return level
	}
	for _, path := range m.log.Sites[id].Writes {
		for i, name := range strings.FieldsFunc(path, func(r rune) bool { return strings.ContainsRune(".[]*&()\"", r) }) {
			on := mask.OnField
			if i == 0 {
				on = mask.OnName
			}
			level = max(level, m.mask.Name(on, name))
		}
	}
	m.sites[id] = level
	return level
}

// tables masks the tables, at the end, when all secrets are known, and says in their gaps what was masked.
func (m *masking) tables(t *event.Tables) *event.Tables {
	h := event.NewHider(m.mask, m.secrets, t.Types(0))
	out := t.Masked(h)
	n := int64(0)
	for _, x := range m.hiders {
		n += x.Count
	}
	if n += h.Count; n > 0 {
		out.Gaps = append(out.Gaps, event.Gap{What: fmt.Sprintf("%d secret values and texts are masked", n), Remedy: "wraith case mask CASE shows the rules; whoever has the right sees the values with --unmask"})
	}
	if m.secrets.Full {
		out.Gaps = append(out.Gaps, event.Gap{What: fmt.Sprintf("more than %d secrets, or long ones, were found: the others are masked where their names are, and not in other texts", m.secrets.Len()), Remedy: "add a rule for the texts that may have them: wraith case mask"})
	}
	return out
}
