// Package wellformed checks that texts can be stored: PostgreSQL takes valid UTF-8 without NUL bytes.
package wellformed

import (
	"fmt"
	"reflect"
	"strings"
	"unicode/utf8"

	"wraithology/core/fault"
)

// Text reports whether a text can be stored.
func Text(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

// Check verifies that all texts in exported parts of a value can be stored, also in lists, maps and behind pointers. Bytes are not texts.
func Check(v any) error { return check(reflect.ValueOf(v)) }

func check(v reflect.Value) error {
	switch v.Kind() {
	case reflect.String:
		if !Text(v.String()) {
			return fault.InvalidText.New("", "invalid text %q: not valid UTF-8, or with a NUL byte", fmt.Sprintf("%.40s", v.String()))
		}
	case reflect.Pointer:
		if !v.IsNil() {
			return check(v.Elem())
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return nil
		}
		for i := range v.Len() {
			if err := check(v.Index(i)); err != nil {
				return err
			}
		}
	case reflect.Map:
		for key, value := range v.Seq2() {
			if err := check(key); err != nil {
				return err
			}
			if err := check(value); err != nil {
				return err
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				if err := check(v.Field(i)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
