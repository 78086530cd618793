package question_test

import (
	"context"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
)

var (
	took    = &event.Type{ID: 8, Name: event.DurationType, Form: event.Int, Size: 8}
	since   = &event.Type{ID: 9, Name: event.TimestampType, Form: event.Int, Size: 8}
	natural = &event.Type{ID: 10, Name: "uint64", Form: event.Uint, Size: 8}
	anyType = &event.Type{ID: 11, Name: "any", Form: event.Interface, Size: 16}
	truth   = &event.Type{ID: 12, Name: "bool", Form: event.Bool, Size: 1}
	partly  = &event.Type{ID: 13, Name: "map[string]float64", Form: event.Map, Size: 8, Elem: 1, Key: 3}
	pair    = &event.Type{ID: 14, Name: "[2]float64", Form: event.Array, Size: 16, Elem: 1, Length: 2}
	tables  = &event.Type{ID: 15, Name: "[]int", Form: event.Slice, Size: 24, Elem: 2}
)

// past is a frame whose recording has earlier values and machine memory, too.
type past struct {
	frame
	replay.Machine
	replay.Past
}

func (p past) Variable(ctx context.Context, at event.Moment, t event.ThreadID, f int, name string) (replay.Variable, bool, error) {
	v, ok, err := p.frame.Variable(ctx, at, t, f, name)
	v.Value.Memory = dump{}
	return v, ok, err
}

func (past) ValueBefore(_ context.Context, path string, _ event.Moment, _ event.ThreadID, _ int) (replay.Value, error) {
	before := map[string]event.Value{"count": integer(6), "name": str("Two Sisters of Ness"), "quay.Sill": number(2.5), "list[1].Sill": number(9), `given["Osprey Wall"]`: integer(3), "later": {Type: float, State: event.Unassigned}}
	v, ok := before[path]
	if !ok {
		return replay.Value{}, fmt.Errorf("%s: %w", path, fault.NoName)
	}
	return replay.Value{Value: v, Memory: dump{}}, nil
}

func (past) Types() replay.TypeNames { return dump{} }

// dump is memory with more types, which are known by name.
type dump struct{}

func (dump) Type(id event.TypeID) *event.Type {
	for _, t := range []*event.Type{took, since, natural, anyType, truth, partly, pair, tables} {
		if t.ID == id {
			return t
		}
	}
	return memory{}.Type(id)
}

func (d dump) TypeNamed(name string) (*event.Type, error) {
	for id := event.TypeID(1); d.Type(id) != nil; id++ {
		if d.Type(id).Name == name {
			return d.Type(id), nil
		}
	}
	return nil, nil
}

func (dump) Load(address uint64, t *event.Type) event.Value {
	switch t.Form {
	case event.Int:
		return event.Value{Type: t, State: event.Known, Int: int64(address) / 8}
	case event.Float:
		return event.Value{Type: t, State: event.Unrecorded, Text: "it was not kept"}
	}
	return memory{}.Load(address, t)
}

func (dump) Entries(_ uint64, t *event.Type) ([]event.Value, bool) {
	if t == partly {
		return []event.Value{str("Kelp Quay"), number(1.5), str("Grebe Lock"), {Type: float, State: event.Unrecorded}}, false
	}
	return memory{}.Entries(0, t)
}

var richFrame = past{frame: frame{values: map[string]event.Value{
	"count": integer(7), "name": str("Two Sisters of Ness"), "water": number(3.5),
	"quay": {Type: toQuay, State: event.Known, Address: 3100}, "same": {Type: toQuay, State: event.Known, Address: 3100}, "other": {Type: toQuay, State: event.Known, Address: 3200},
	"list": {Type: quays, State: event.Known, Address: 1000, Length: 2, Capacity: 2}, "shorter": {Type: quays, State: event.Known, Address: 1000, Length: 1, Capacity: 2},
	"given": {Type: byName, State: event.Known, Address: 9, Length: 1}, "partly": {Type: partly, State: event.Known, Address: 12, Length: 5},
	"took": {Type: took, State: event.Known, Int: 2_500_000_000}, "since": {Type: since, State: event.Known, Int: 1_900_000_000_000_000_001},
	"huge": {Type: natural, State: event.Known, Uint: math.MaxUint64 - 1}, "small": {Type: natural, State: event.Known, Uint: 12}, "yes": {Type: truth, State: event.Known, Uint: 1},
	"boxed": {Type: anyType, State: event.Known, Items: []event.Value{integer(41)}}, "later": {Type: float, State: event.Unassigned}, "nothing": {Type: anyType, State: event.Known, Nil: true},
	"pair": {Type: pair, State: event.Known, Length: 2, Items: []event.Value{number(1), {Type: float, State: event.Unrecorded}}}, "sums": {Type: tables, State: event.Known, Address: 80, Length: 3, Capacity: 3},
	"gate.c:chain": integer(5), "http.response-size": integer(512), "lost": {Type: float, State: event.OptimisedOut, Text: "the compiler kept it nowhere"},
	"alike": {Type: quay, State: event.Known, Items: []event.Value{str("Kelp"), number(1)}}, "alike2": {Type: quay, State: event.Known, Items: []event.Value{str("Kelp"), number(1)}}, "unlike": {Type: quay, State: event.Known, Items: []event.Value{str("Kelp"), number(2)}},
}}}

// Values of every form, earlier values, memory as another type, and names that cannot be written.
func TestValuesOfEveryForm(t *testing.T) {
	t.Parallel()
	for expression, want := range map[string]question.Answer{
		"took":                    {Value: "2.5s", Type: event.DurationType},
		"took > duration('2s')":   {Value: "true", Type: "bool"},
		"took + took":             {Value: "5s", Type: event.DurationType},
		"since":                   {Value: "2030-03-17T17:46:40.000000001Z", Type: event.TimestampType},
		"since - duration('40s')": {Value: "2030-03-17T17:46:00.000000001Z", Type: event.TimestampType},
		"since > timestamp('2030-03-17T17:46:40Z')": {Value: "true", Type: "bool"},
		"huge > 5u":                           {Value: "true", Type: "bool"},
		"hex(huge)":                           {Value: `"0xfffffffffffffffe"`, Type: "string"},
		"binary(huge) == binary(-2)":          {Value: "true", Type: "bool"},
		"small + 1":                           {Value: "13", Type: "int"},
		"yes ? 'a' : 'b'":                     {Value: `"a"`, Type: "string"},
		"boxed + 1":                           {Value: "42", Type: "int"},
		"nothing == null":                     {Value: "true", Type: "bool"},
		"null":                                {Value: "null", Type: "null"},
		"quay == same":                        {Value: "true", Type: "bool"},
		"quay == other":                       {Value: "false", Type: "bool"},
		"quay == 3100":                        {Value: "false", Type: "bool"},
		"list == shorter":                     {Value: "false", Type: "bool"},
		"alike == alike2":                     {Value: "true", Type: "bool"},
		"alike == unlike":                     {Value: "false", Type: "bool"},
		"hex(quay)":                           {Value: `"0xc1c"`, Type: "string"},
		"quay in [same]":                      {Value: "true", Type: "bool"},
		"size(alike2.Name) + size(list)":      {Value: "6", Type: "int"},
		"partly['Kelp Quay']":                 {Value: "1.5", Type: "double"},
		"'Kelp Quay' in partly":               {Value: "true", Type: "bool"},
		"1.0 in pair":                         {Value: "true", Type: "bool"},
		"sums.map(x, x + 1)[2]":               {Value: "13", Type: "int"},
		"sums.exists(x, x == 12)":             {Value: "true", Type: "bool"},
		"sums.exists(x, x == 13)":             {Value: "false", Type: "bool"},
		"12 in sums":                          {Value: "true", Type: "bool"},
		"given.exists(k, k == 'Osprey Wall')": {Value: "true", Type: "bool"},
		"old(count)":                          {Value: "6", Type: "int"},
		"changed(count)":                      {Value: "true", Type: "bool"},
		"changed(name)":                       {Value: "false", Type: "bool"},
		"old(quay.Sill)":                      {Value: "2.5", Type: "double"},
		"old(list[1].Sill) - 1.0":             {Value: "8", Type: "double"},
		"old(given['Osprey Wall'])":           {Value: "3", Type: "int"},
		"changed(given['Osprey Wall'])":       {Value: "false", Type: "bool"},
		"cast(quay, 'berth.Quay').Sill":       {Value: "3.1", Type: "double"},
		"cast(4000, 'berth.Quay').Sill":       {Value: "4", Type: "double"},
		"cast(huge, '*berth.Quay') != null":   {Value: "true", Type: "bool"},
		"cast(0, '*berth.Quay') == null":      {Value: "true", Type: "bool"},
		"cast(4000, '*berth.Quay').Sill":      {Value: "4", Type: "double"},
		"cast(80, 'int')":                     {Value: "10", Type: "int"},
		"global('gate.c', 'chain') + 1":       {Value: "6", Type: "int"},
		"named('http.response-size')":         {Value: "512", Type: "int"},
		"typeOf(count)":                       {Value: `"int"`, Type: "string"},
		"typeOf(alike)":                       {Value: `"berth.Quay"`, Type: "string"},
		"water * 2":                           {Value: "7", Type: "double"},
		"7 / 2.0":                             {Value: "3.5", Type: "double"},
		"2 - water":                           {Value: "-1.5", Type: "double"},
	} {
		got, err := askIn(richFrame, expression)
		if assert.NoError(t, err, expression) {
			if want.Type == "double" && got.Type == "float64" {
				got.Type = "double" // as it is, without the language
			}
			want.State = event.Known
			assert.Equal(t, want, got, expression)
		}
	}
}

// What cannot be answered says which part of the question and why.
func TestWhatCannotBeAnswered(t *testing.T) {
	t.Parallel()
	for expression, want := range map[string]string{
		"old(count + 1)":             "old and changed take a name, a field or an element",
		"changed(size(list))":        "old and changed take a name, a field or an element",
		"old(list[count])":           "old and changed take a name, a field or an element",
		"old(water)":                 "old(water): water: name not found",
		"old(later) > 1.0":           "old(later) has not been assigned yet",
		"cast(quay, count)":          "cast takes the name of a type as text",
		"cast(quay, 5)":              "cast takes the name of a type as text",
		"cast(quay, 'berth.Lock')":   "the debug information has no type berth.Lock",
		"cast('x', 'berth.Quay')":    "cast takes an address or a pointer",
		"cast(16, 'float64')":        "what is at 0x10 is unrecorded: it was not kept",
		"global('gate.c')":           "types of the operands",
		"global('gate.c', 5)":        "global takes the end of a file's name and the name of a variable, as texts",
		"named(count)":               "named takes a name as text",
		"named('')":                  "named takes a name as text",
		"hex('x')":                   "hex takes a whole number or a reference",
		"binary(water)":              "binary takes a whole number",
		"deref(count)":               "deref takes a pointer that is not nil",
		"deref(nothing)":             "deref takes a pointer that is not nil",
		"lost + 1.0":                 "lost is optimised away: the compiler kept it nowhere",
		"quay[0.5]":                  "a value is indexed by name or number",
		"list[-1]":                   "element -1 is out of range, there are 2",
		"partly['Grebe Lock'] > 1.0": "[Grebe Lock] is unrecorded",
		"partly['Osprey Wall']":      "the entry for Osprey Wall was not recorded",
		"'Osprey Wall' in partly":    "not all of map[string]float64 is known, and what is does not hold Osprey Wall",
		"2.0 in pair":                "not all of [2]float64 is known, and what is does not hold 2",
		"int(alike)":                 "cannot be made",
		"true + 1":                   "types of the operands",
		"true - 1":                   "types of the operands",
		"true * 1":                   "types of the operands",
		"true / 1":                   "types of the operands",
		"1 / 0":                      "division by zero",
		"9223372036854775807 + 1":    "overflow",
	} {
		_, err := askIn(richFrame, expression)
		if assert.Error(t, err, expression) {
			assert.ErrorContains(t, err, want, expression)
		}
	}
	_, err := ask("old(count)")
	require.ErrorContains(t, err, "the evidence has one moment only")
	_, err = ask("cast(quay, 'berth.Quay')")
	require.ErrorContains(t, err, "cast needs the memory of a core dump")
	_, err = askIn(frame{}, "count")
	require.ErrorContains(t, err, "count: name not found; the frame has no variables")
}
