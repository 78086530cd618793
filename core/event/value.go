package event

// Form is the shape of a type and of its values.
type Form uint8

// The forms, with the numbers of the .wraith format.
const (
	Bool      Form = 1
	Int       Form = 2
	Uint      Form = 3
	Float     Form = 4
	Complex   Form = 5
	Text      Form = 6
	Struct    Form = 7
	Array     Form = 8
	Slice     Form = 9
	Map       Form = 10
	Pointer   Form = 11
	Interface Form = 12
	Func      Form = 13
	Chan      Form = 14
	Opaque    Form = 15
)

// The names of the types of whole nanoseconds, and of nanoseconds since 1970.
const (
	DurationType  = "duration"
	TimestampType = "timestamp"
	ObjectType    = "object" // a text in the notation of JSON
)

// TypeID indexes the type table of one process.
type TypeID uint32

// Field is a member of a struct type. Offset is in bytes from its start. Inner is set if the fields
// of the member also count as fields of the struct: a base class, an anonymous member.
type Field struct {
	Name   string
	Type   TypeID
	Offset uint64
	Inner  bool `cbor:"-"`
}

// Type describes the values of one type. Size is in bytes. Elem is the element
// of an array, slice, map, pointer or channel, Key that of a map.
type Type struct {
	ID     TypeID
	Name   string
	Form   Form
	Size   uint64
	Elem   TypeID
	Key    TypeID
	Length uint64
	Fields []Field
	// Volatile is set for a struct whose unexported fields change without an event: code that is not
	// recorded changes them on other threads.
	Volatile bool
}

// FieldNamed returns the field of a struct type with a name.
func (t *Type) FieldNamed(name string) (f Field, ok bool) {
	if t.Form == Struct && name != "" {
		for _, f := range t.Fields {
			if f.Name == name {
				return f, true
			}
		}
	}
	return Field{}, false
}

// State says whether a value is known. The texts appear in every answer.
type State string

// The states of a value.
const (
	Known        State = "known"
	Unassigned   State = "unassigned"
	Leftover     State = "leftover"
	OptimisedOut State = "optimised-away"
	Unrecorded   State = "unrecorded"
	Redacted     State = "redacted"
	// MayHaveChanged is a value that code that is not recorded, or another thread, may have changed since
	// it was recorded.
	MayHaveChanged State = "may-have-changed"
	// Moved is a value that its variable does not own any more: it was moved or dropped.
	Moved State = "moved"
)

// Value is a decoded value. The type's form decides which members are used: Int, Uint and Float for
// numbers (also Imag for complex numbers; Uint is 0 or 1 for booleans); Text for text, for names of
// functions and constants, and for the reason of a value that is not known; Items for fields and
// elements; Pairs for the entries of a map (key, value, key, value, …); Address and Length for
// references. An interface has its dynamic value as its only item.
type Value struct {
	Type     *Type
	State    State
	Nil      bool
	Int      int64
	Uint     uint64
	Float    float64
	Imag     float64
	Text     string
	Items    []Value
	Pairs    []Value
	Address  uint64
	Length   uint64
	Capacity uint64
	// Last is the last known value if the state is MayHaveChanged, else nil.
	Last *Value
	// Whole is the full length of a text or list if only its beginning was recorded, else 0.
	Whole uint64
}

// Bounds of a zero value that is made.
const (
	maxZeroParts = 1024
	maxZeroDepth = 16
)

// Zero returns the zero value of a type (The Go Programming Language Specification, section The zero value). ok is false
// for a type whose parts are not known, and for one with more than 1,024 parts.
func Zero(t *Type, types Types) (v Value, ok bool) {
	parts := 0
	var zero func(t *Type, depth int) (Value, bool)
	zero = func(t *Type, depth int) (Value, bool) {
		parts++
		if t == nil || parts > maxZeroParts || depth > maxZeroDepth {
			return Value{}, false
		}
		v := Value{Type: t, State: Known}
		add := func(id TypeID) bool {
			x, ok := zero(types(id), depth+1)
			v.Items = append(v.Items, x)
			return ok
		}
		switch t.Form {
		case Bool, Int, Uint, Float, Complex, Text:
		case Pointer, Slice, Map, Interface, Func, Chan:
			v.Nil = true
		case Struct:
			for _, f := range t.Fields {
				if !add(f.Type) {
					return Value{}, false
				}
			}
		case Array:
			if t.Length > maxZeroParts {
				return Value{}, false
			}
			for range t.Length {
				if !add(t.Elem) {
					return Value{}, false
				}
			}
		default:
			return Value{}, false
		}
		return v, true
	}
	return zero(t, 0)
}

// Form returns the form of the value's type, or 0 if the type is not known.
func (v Value) Form() Form {
	if v.Type == nil {
		return 0
	}
	return v.Type.Form
}
