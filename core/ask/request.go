package ask

import (
	"encoding"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"wraithology/core/fault"
)

// Field is a parameter of a request, made from the tags of a struct's field:
//
//	json       its name
//	doc        what it is, as a noun phrase
//	default    its value if it is left off
//	minimum, maximum, maxLength, maxItems, enum, required
//	flag       its name on the command line, where that differs; "-" for no flag of its own
//	arg        its position among a command's arguments after the locator, from 1
//	flagDefault  its default on the command line, where that differs
type Field struct {
	Name string
	Doc  string
	Type reflect.Type
	Tag  reflect.StructTag
	At   []int // index of the field in the request
}

// Parameter returns the field's name in the service's API.
func (f Field) Parameter() string { return f.Name }

// Fields lists the parameters of a request type, including those of embedded structs.
func Fields(t reflect.Type) []Field {
	if list, ok := fieldCache.Load(t); ok {
		return list.([]Field)
	}
	var list []Field
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			for _, inner := range Fields(f.Type) {
				inner.At = append([]int{i}, inner.At...)
				list = append(list, inner)
			}
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		list = append(list, Field{Name: name, Doc: f.Tag.Get("doc"), Type: f.Type, Tag: f.Tag, At: []int{i}})
	}
	fieldCache.Store(t, list)
	return list
}

var fieldCache sync.Map // []Field by reflect.Type

// Nested reports whether the request contains other structs, which a query string cannot encode.
func (q Question) Nested() bool {
	return slices.ContainsFunc(Fields(q.Request), func(f Field) bool { return f.Type.Kind() == reflect.Struct || f.listsStructs() })
}

func (f Field) listsStructs() bool {
	return f.Type.Kind() == reflect.Slice && f.Type.Elem().Kind() == reflect.Struct
}

// New returns a pointer to a request of the question, with its defaults.
func (q Question) New() any {
	v := reflect.New(q.Request)
	setDefaults(v.Elem())
	return v.Interface()
}

func setDefaults(v reflect.Value) {
	for _, f := range Fields(v.Type()) {
		at := v.FieldByIndex(f.At)
		if at.Kind() == reflect.Struct && !isText(f.Type) {
			setDefaults(at)
		} else if d, ok := f.Tag.Lookup("default"); ok {
			if err := set(at, d); err != nil {
				panic(fmt.Sprintf("ask: default of %s: %v", f.Name, err)) // a defect of this program
			}
		}
	}
}

func isText(t reflect.Type) bool { return reflect.PointerTo(t).Implements(textUnmarshaler) }

var textUnmarshaler = reflect.TypeFor[encoding.TextUnmarshaler]()

// set parses a text into a value.
func set(v reflect.Value, text string) error {
	if isText(v.Type()) {
		return v.Addr().Interface().(encoding.TextUnmarshaler).UnmarshalText([]byte(text))
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(text)
		return nil
	case reflect.Bool:
		b, err := strconv.ParseBool(text)
		if err != nil {
			return fmt.Errorf("use true or false")
		}
		v.SetBool(b)
		return nil
	case reflect.Int, reflect.Int64:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || v.OverflowInt(n) {
			return fmt.Errorf("use a whole number")
		}
		v.SetInt(n)
		return nil
	case reflect.Uint64:
		n, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			return fmt.Errorf("use a whole number from 0 on")
		}
		v.SetUint(n)
		return nil
	}
	panic("ask: no text stands for a " + v.Type().String()) // a defect of this program
}

// write is the inverse of set.
func write(v reflect.Value) string {
	if m, ok := v.Interface().(encoding.TextMarshaler); ok {
		b, _ := m.MarshalText() // the encodings of these types have no errors
		return string(b)
	}
	return fmt.Sprint(v.Interface())
}

// Decode decodes a request from the values of a query string into a pointer that New returned.
func Decode(values url.Values, into any) error {
	v := reflect.ValueOf(into).Elem()
	fields := Fields(v.Type())
	for name, list := range values {
		i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == name })
		if i < 0 {
			var names []string
			for _, f := range fields {
				names = append(names, f.Name)
			}
			return fmt.Errorf("%w: unknown parameter %q: use one of %s", fault.InvalidRequest, name, strings.Join(names, ", "))
		}
		if err := SetField(v, fields[i], list); err != nil {
			return invalid(name, list[len(list)-1], err)
		}
	}
	return nil
}

// SetField parses texts into a field of a request.
func SetField(request reflect.Value, f Field, texts []string) error {
	at := request.FieldByIndex(f.At)
	if f.listsStructs() {
		return fmt.Errorf("use the body")
	}
	if at.Kind() == reflect.Slice {
		at.Set(reflect.ValueOf(append([]string{}, texts...)))
		return nil
	}
	if at.Kind() == reflect.Struct && !isText(f.Type) {
		return fmt.Errorf("use the body")
	}
	return set(at, texts[len(texts)-1])
}

// DecodeJSON decodes a request from a JSON object into a pointer that New returned.
func DecodeJSON(r io.Reader, into any) error {
	d := json.NewDecoder(r)
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return fmt.Errorf("%w: %w", fault.InvalidRequest, err)
	}
	return nil
}

// Encode encodes a request as the values of a query string, without values that are defaults.
func Encode(request any) url.Values {
	v := reflect.ValueOf(request)
	defaults := reflect.New(v.Type()).Elem()
	setDefaults(defaults)
	out := url.Values{}
	for _, f := range Fields(v.Type()) {
		at := v.FieldByIndex(f.At)
		switch {
		case at.Kind() == reflect.Slice:
			out[f.Name] = append([]string(nil), at.Interface().([]string)...)
		case !at.Equal(defaults.FieldByIndex(f.At)):
			out.Set(f.Name, write(at))
		}
	}
	return out
}

func invalid(name, value string, err error) error {
	kind := fault.InvalidRequest
	if k, _ := fault.Of(err); k != fault.Internal {
		return fmt.Errorf("invalid %s: %w", name, err)
	}
	return kind.New("", "invalid %s %q: %w", name, cut(value), err)
}

// cut shortens user input for a message.
func cut(s string) string {
	const most = 100
	if len(s) > most {
		return strings.ToValidUTF8(s[:most], "") + "…"
	}
	return s
}

// Validate checks a request against the bounds of its fields. name returns a field's name for
// messages: that of the parameter, or of the flag.
func Validate(request any, name func(Field) string) error {
	return validate(reflect.ValueOf(request), name)
}

func validate(v reflect.Value, name func(Field) string) error {
	for _, f := range Fields(v.Type()) {
		at := v.FieldByIndex(f.At)
		if at.Kind() == reflect.Struct && !isText(f.Type) {
			if err := validate(at, name); err != nil {
				return err
			}
			continue
		}
		if err := f.check(at, name(f)); err != nil {
			return err
		}
		if !f.listsStructs() {
			continue
		}
		for i := range at.Len() {
			if err := validate(at.Index(i), name); err != nil {
				return fmt.Errorf("%s %d: %w", name(f), i+1, err)
			}
		}
	}
	return nil
}

func (f Field) check(v reflect.Value, name string) error {
	switch v.Kind() {
	case reflect.String:
		return f.checkText(v.String(), name)
	case reflect.Slice:
		if f.Tag.Get("required") == "true" && v.Len() == 0 {
			return fault.InvalidRequest.New("", "%s is missing", name)
		}
		if most, ok := f.bound("maxItems"); ok && int64(v.Len()) > most {
			return fault.InvalidRequest.New("", "%d values of %s: at most %d are supported", v.Len(), name, most)
		}
		list, _ := v.Interface().([]string)
		for _, text := range list {
			if err := f.checkText(text, name); err != nil {
				return err
			}
		}
	case reflect.Int, reflect.Int64:
		return f.checkNumber(v.Int(), name)
	case reflect.Uint64:
		return f.checkNumber(int64(min(v.Uint(), 1<<62)), name)
	}
	return nil
}

func (f Field) bound(tag string) (int64, bool) {
	text, ok := f.Tag.Lookup(tag)
	if !ok {
		return 0, false
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		panic(fmt.Sprintf("ask: %s of %s: %v", tag, f.Name, err)) // a defect of this program
	}
	return n, true
}

func (f Field) checkNumber(n int64, name string) error {
	least, bounded := f.bound("minimum")
	most, limited := f.bound("maximum")
	switch {
	case bounded && n < least && limited, limited && n > most && bounded:
		return fault.InvalidRequest.New("", "invalid %s %d: use %d to %d", name, n, least, most)
	case bounded && n < least:
		return fault.InvalidRequest.New("", "invalid %s %d: use a number from %d on", name, n, least)
	}
	return nil
}

func (f Field) checkText(text, name string) error {
	switch {
	case !utf8.ValidString(text):
		return fault.InvalidText.New("", "invalid %s: not valid UTF-8", name)
	case strings.ContainsRune(text, 0):
		return fault.InvalidText.New("", "invalid %s: it has a NUL byte", name)
	case f.Tag.Get("required") == "true" && strings.TrimSpace(text) == "":
		return fault.InvalidRequest.New("", "%s is missing", name)
	}
	if most, ok := f.bound("maxLength"); ok && int64(len(text)) > most {
		return fault.InvalidRequest.New("", "invalid %s: it has %d bytes, at most %d are supported", name, len(text), most)
	}
	if enum, ok := f.Tag.Lookup("enum"); ok && text != "" {
		words := strings.Split(enum, ",")
		if !slices.Contains(words, text) {
			return fault.InvalidRequest.New("", "invalid %s %q: use one of %s", name, cut(text), strings.Join(words, ", "))
		}
	}
	return nil
}
