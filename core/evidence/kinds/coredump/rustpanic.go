package coredump

import (
	"regexp"
	"strings"
)

// rustPanics describe the functions that Rust's libraries call to panic, by the last one or two
// parts of their names.
var rustPanics = map[string]string{
	"panic_bounds_check":                   "an index is beyond the end",
	"panic_null_pointer_dereference":       "a null pointer was followed",
	"panic_misaligned_pointer_dereference": "a pointer was followed that is not aligned",
	"panic_const_div_by_zero":              "a whole number was divided by zero",
	"panic_const_rem_by_zero":              "the remainder of a division by zero was taken",
	"panic_const_add_overflow":             "an addition overflowed",
	"panic_const_sub_overflow":             "a subtraction overflowed",
	"panic_const_mul_overflow":             "a multiplication overflowed",
	"panic_const_div_overflow":             "a division overflowed",
	"panic_const_neg_overflow":             "a negation overflowed",
	"panic_const_shl_overflow":             "a shift went further than the number is wide",
	"panic_const_shr_overflow":             "a shift went further than the number is wide",
	"option::unwrap_failed":                "unwrap of None",
	"option::expect_failed":                "expect of None",
	"result::unwrap_failed":                "unwrap or expect of an Err",
	"assert_failed":                        "two values that were to be alike are not, or the other way round",
	"panic_already_borrowed":               "a cell was to be changed that is borrowed",
	"panic_already_mutably_borrowed":       "a cell was to be read that is being changed",
	"panic_cannot_unwind":                  "a panic came to a function that it may not leave",
	"panic_in_cleanup":                     "a panic came while another one was cleaned up after",
	"slice_start_index_len_fail":           "a range begins beyond the end",
	"slice_end_index_len_fail":             "a range ends beyond the end",
	"slice_index_order_fail":               "a range ends before it begins",
	"slice_index_fail":                     "a range is beyond the end",
	"slice_error_fail":                     "a range of a text is beyond its end, or within a character",
	"handle_alloc_error":                   "there was no memory left",
	"unreachable_display":                  "code was reached that was taken to be unreachable",
}

var rustHash = regexp.MustCompile(`::h[0-9a-f]{16}$`)

// rustPanic reports whether the stack is that of a Rust panic, with the reason if a function of the
// libraries on it tells it. frame is the first frame outside of the libraries.
func rustPanic(list []frame) (why string, at int, ok bool) {
	for i, x := range list {
		name := rustHash.ReplaceAllString(x.Function, "")
		name, _, _ = strings.Cut(name, "::<")
		switch {
		case name == "rust_panic" || strings.HasSuffix(name, "rust_begin_unwind") || name == "std::panicking::begin_panic" || name == "alloc::alloc::handle_alloc_error":
			ok, at = true, i
		case x.Own && ok:
			return why, at, ok
		}
		parts := strings.Split(name, "::")
		for n := 1; ok && n <= 2 && n <= len(parts); n++ {
			if said := rustPanics[strings.Join(parts[len(parts)-n:], "::")]; said != "" {
				why, at = said, i
			}
		}
	}
	return why, at, ok
}
