// Package wellformed checks texts of untrusted input: whether they can be stored, and whether they do nothing to a terminal that shows them.
package wellformed

import (
	"fmt"
	"reflect"
	"strings"
	"unicode"
	"unicode/utf8"

	"wraithology/core/fault"
)

// Storable reports whether a text can be stored: PostgreSQL takes valid UTF-8 without NUL bytes.
func Storable(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

// Text reports whether a person, or a program for one, may have written a text: it can be stored, and has no control characters (Unicode category Cc)
// but tabs and ends of lines.
func Text(s string) bool {
	return utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) && r != '\t' && r != '\n' && r != '\r' })
}

// Check verifies that all texts in exported parts of a value are Text, also in lists, maps and behind pointers. Bytes are not texts.
func Check(v any) error { return check(reflect.ValueOf(v), Text) }

// CheckStorable is Check for Storable.
func CheckStorable(v any) error { return check(reflect.ValueOf(v), Storable) }

func check(v reflect.Value, isFine func(string) bool) error {
	switch v.Kind() {
	case reflect.String:
		if !isFine(v.String()) {
			return fault.InvalidText.New("", "invalid text %q: not valid UTF-8, or with a control character", fmt.Sprintf("%.40s", v.String()))
		}
	case reflect.Pointer:
		if !v.IsNil() {
			return check(v.Elem(), isFine)
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return nil
		}
		for i := range v.Len() {
			if err := check(v.Index(i), isFine); err != nil {
				return err
			}
		}
	case reflect.Map:
		for key, value := range v.Seq2() {
			if err := check(key, isFine); err != nil {
				return err
			}
			if err := check(value, isFine); err != nil {
				return err
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() || f.Anonymous { // what an embedded type has is exported, whatever the name of the type
				if err := check(v.Field(i), isFine); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
