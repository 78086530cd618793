package coredump

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A Rust program that is generated here has variables of random types, prints them and ends. The dump must say the same.

const rustHead = `#![allow(dead_code, unused, non_camel_case_types)]
use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::rc::Rc;
use std::sync::Arc;

trait Say { fn say(&self) -> String; }
macro_rules! numbers { ($($t:ty)*) => { $(impl Say for $t { fn say(&self) -> String { self.to_string() } })* } }
numbers! { u8 i8 u16 i16 u32 i32 u64 i64 u128 i128 usize isize f32 f64 bool }
impl Say for char { fn say(&self) -> String { (*self as u32).to_string() } }
impl Say for str { fn say(&self) -> String { format!("\"{}\"", self) } }
impl Say for String { fn say(&self) -> String { self.as_str().say() } }
fn each<'a, T: Say + 'a>(open: &str, list: impl Iterator<Item = &'a T>, close: &str) -> String { format!("{}{}{}", open, list.map(|x| x.say()).collect::<Vec<_>>().join(" "), close) }
impl<T: Say> Say for [T] { fn say(&self) -> String { each("[", self.iter(), "]") } }
impl<T: Say, const N: usize> Say for [T; N] { fn say(&self) -> String { each("[", self.iter(), "]") } }
impl<T: Say> Say for Vec<T> { fn say(&self) -> String { each("[", self.iter(), "]") } }
impl<T: Say> Say for VecDeque<T> { fn say(&self) -> String { each("[", self.iter(), "]") } }
impl<T: Say> Say for BTreeSet<T> { fn say(&self) -> String { each("<", self.iter(), ">") } }
fn pairs<'a, K: Say + 'a, V: Say + 'a>(list: impl Iterator<Item = (&'a K, &'a V)>) -> String { format!("<{}>", list.map(|(k, v)| format!("{}={}", k.say(), v.say())).collect::<Vec<_>>().join(" ")) }
impl<K: Say, V: Say> Say for BTreeMap<K, V> { fn say(&self) -> String { pairs(self.iter()) } }
impl<K: Say, V: Say> Say for HashMap<K, V> { fn say(&self) -> String { pairs(self.iter()) } }
impl<A: Say, B: Say> Say for (A, B) { fn say(&self) -> String { format!("{{__0:{} __1:{}}}", self.0.say(), self.1.say()) } }
impl<T: Say> Say for Option<T> { fn say(&self) -> String { match self { Some(x) => format!("{{__0:{}}}", x.say()), None => "[]".to_string() } } }
impl<T: Say, E: Say> Say for Result<T, E> { fn say(&self) -> String { match self { Ok(x) => format!("{{__0:{}}}", x.say()), Err(x) => format!("{{__0:{}}}", x.say()) } } }
impl<T: Say + Copy> Say for Cell<T> { fn say(&self) -> String { self.get().say() } }
impl<T: Say> Say for RefCell<T> { fn say(&self) -> String { format!("{{borrow:0 value:{}}}", self.borrow().say()) } }

`

type rustWriter struct {
	*rand.Rand
	types strings.Builder
	n     int
}

var rustNumbers = []string{"u8", "i8", "u16", "i16", "u32", "i32", "u64", "i64", "u128", "i128", "usize", "isize", "f32", "f64", "bool", "char"}

func (w *rustWriter) number(of string) string {
	switch of {
	case "bool":
		return []string{"true", "false"}[w.IntN(2)]
	case "char":
		return []string{"'K'", "'ø'", "'\\u{1f6a2}'", "'0'"}[w.IntN(4)]
	case "f32", "f64":
		return fmt.Sprintf("%d as %s / 8.0", w.IntN(4000)-2000, of)
	case "u8", "i8":
		return fmt.Sprintf("%d", w.IntN(128))
	case "u128":
		return fmt.Sprintf("u128::MAX / %d", 1+w.IntN(1000))
	case "i128":
		return fmt.Sprintf("i128::MIN / %d", 2+w.IntN(1000))
	case "i64", "isize":
		return fmt.Sprintf("-%d", w.Int64N(1<<62))
	}
	return fmt.Sprint(w.IntN(30000))
}

func (w *rustWriter) text() string {
	return fmt.Sprintf("%q", strings.Repeat("Kelp Quay ", w.IntN(5))+[]string{"", "ø", "x"}[w.IntN(3)])
}

// key is a type that has an order and a hash.
func (w *rustWriter) key() (name string, value func() string) {
	if w.IntN(2) == 0 {
		return "String", func() string { return w.text() + ".to_string()" }
	}
	of := []string{"u8", "i16", "u32", "i64", "usize"}[w.IntN(5)]
	return of, func() string { return w.number(of) }
}

// kind makes a type, and the function that makes expressions of it.
func (w *rustWriter) kind(depth int) (name string, value func() string) {
	choice := w.IntN(24)
	if depth > 2 {
		choice = w.IntN(5)
	}
	some := func(f func() string) string { return someOf(w.Rand, f) }
	switch choice {
	case 0, 1, 2:
		of := rustNumbers[w.IntN(len(rustNumbers))]
		return of, func() string { return w.number(of) }
	case 3:
		return "String", func() string { return w.text() + ".to_string()" }
	case 4:
		return "&'static str", w.text
	case 5, 6, 7:
		return w.structure(depth)
	case 8, 9, 10:
		return w.enumeration(depth)
	case 11:
		of, inner := w.kind(depth + 1)
		return "Vec<" + of + ">", func() string { return "vec![" + some(inner) + "]" }
	case 12:
		of, inner := w.kind(depth + 1)
		return "[" + of + "; 3]", func() string { return fmt.Sprintf("[%s, %s, %s]", inner(), inner(), inner()) }
	case 13:
		of, inner := w.kind(depth + 1)
		return "VecDeque<" + of + ">", func() string { return "VecDeque::from(vec![" + some(inner) + "])" }
	case 14:
		of, inner := w.key()
		return "BTreeSet<" + of + ">", func() string { return "BTreeSet::from_iter(vec![" + some(inner) + "])" }
	case 15, 16:
		key, keys := w.key()
		of, inner := w.kind(depth + 1)
		return fmt.Sprintf("BTreeMap<%s, %s>", key, of), func() string {
			return "BTreeMap::from_iter(vec![" + some(func() string { return "(" + keys() + ", " + inner() + ")" }) + "])"
		}
	case 17:
		key, keys := w.key()
		of, inner := w.kind(depth + 1) // one entry: the order of several is the hash's
		return fmt.Sprintf("HashMap<%s, %s>", key, of), func() string { return "HashMap::from_iter(vec![(" + keys() + ", " + inner() + ")])" }
	case 18:
		a, first := w.kind(depth + 1)
		b, second := w.kind(depth + 1)
		return "(" + a + ", " + b + ")", func() string { return "(" + first() + ", " + second() + ")" }
	case 19, 20:
		of, inner := w.kind(depth + 1)
		return "Option<" + of + ">", func() string {
			if w.IntN(3) == 0 {
				return "None"
			}
			return "Some(" + inner() + ")"
		}
	case 21:
		a, good := w.kind(depth + 1)
		b, bad := w.kind(depth + 1)
		return "Result<" + a + ", " + b + ">", func() string {
			if w.IntN(2) == 0 {
				return "Err(" + bad() + ")"
			}
			return "Ok(" + good() + ")"
		}
	case 22:
		of := rustNumbers[w.IntN(len(rustNumbers))]
		return "Cell<" + of + ">", func() string { return "Cell::new(" + w.number(of) + ")" }
	}
	return w.counted(depth)
}

// counted makes a type that owns a value elsewhere.
func (w *rustWriter) counted(depth int) (name string, value func() string) {
	owner := []string{"Box", "Rc", "Arc"}[w.IntN(3)]
	switch w.IntN(3) {
	case 0:
		of, inner := w.kind(depth + 1)
		w.sayer(owner+"<["+of+"]>", "(**self).say()")
		return owner + "<[" + of + "]>", func() string { return fmt.Sprintf("%s::<[%s]>::from(vec![%s, %s])", owner, of, inner(), inner()) }
	case 1:
		w.sayer(owner+"<str>", "(**self).say()")
		return owner + "<str>", func() string { return owner + "::<str>::from(" + w.text() + ")" }
	}
	of, inner := w.structure(depth + 1)
	w.sayer(owner+"<"+of+">", `format!("&{}", (**self).say())`)
	return owner + "<" + of + ">", func() string { return owner + "::new(" + inner() + ")" }
}

// sayer implements the trait for a type once.
func (w *rustWriter) sayer(of, body string) {
	head := "impl Say for " + of + " {"
	if !strings.Contains(w.types.String(), head) {
		fmt.Fprintf(&w.types, "%s fn say(&self) -> String { %s } }\n", head, body)
	}
}

func (w *rustWriter) fields(depth int) (declared, said string, value func() string) {
	var names, types, formats, arguments []string
	var inner []func() string
	for i := range 1 + w.IntN(4) {
		of, f := w.kind(depth + 1)
		name := fmt.Sprint("f", i)
		names, types, inner = append(names, name), append(types, name+": "+of), append(inner, f)
		formats, arguments = append(formats, name+":{}"), append(arguments, name+".say()")
	}
	return strings.Join(types, ", "), fmt.Sprintf(`{ %s } => format!("{{%s}}", %s)`, strings.Join(names, ", "), strings.Join(formats, " "), strings.Join(arguments, ", ")), func() string {
		var list []string
		for i, f := range inner {
			list = append(list, names[i]+": "+f())
		}
		return "{ " + strings.Join(list, ", ") + " }"
	}
}

func (w *rustWriter) structure(depth int) (name string, value func() string) {
	w.n++
	name = fmt.Sprint("S", w.n)
	declared, said, inner := w.fields(depth)
	fmt.Fprintf(&w.types, "struct %s { %s }\nimpl Say for %s { fn say(&self) -> String { match self { %s %s } } }\n", name, declared, name, name, said)
	return name, func() string { return name + " " + inner() }
}

func (w *rustWriter) enumeration(depth int) (name string, value func() string) {
	w.n++
	name = fmt.Sprint("E", w.n)
	var variants, arms []string
	var values []func() string
	for i := range 2 + w.IntN(3) {
		v := fmt.Sprint("V", i)
		declared, said, inner := w.fields(depth)
		variants = append(variants, v+" { "+declared+" }")
		arms = append(arms, name+"::"+v+" "+said)
		values = append(values, func() string { return name + "::" + v + " " + inner() })
	}
	fmt.Fprintf(&w.types, "enum %s { %s }\nimpl Say for %s { fn say(&self) -> String { match self { %s } } }\n", name, strings.Join(variants, ", "), name, strings.Join(arms, ", "))
	return name, func() string { return values[w.IntN(len(values))]() }
}

func (w *rustWriter) program() string {
	var locals, prints strings.Builder
	w.types.WriteString("impl Say for &'static str { fn say(&self) -> String { (**self).say() } }\n")
	for i := range 24 {
		name, value := w.kind(0)
		fmt.Fprintf(&locals, "    let g%d: %s = %s;\n", i, name, value())
		fmt.Fprintf(&prints, "    println!(\"TRUTH\\tg%d\\t{}\", g%d.say());\n", i, i)
	}
	return rustHead + w.types.String() + "fn main() {\n" + locals.String() + prints.String() + "    std::process::abort();\n}\n"
}

func TestGeneratedRustTellsTheTruth(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("rustc"); err != nil {
		t.Skip("there is no compiler for Rust here")
	}
	flags := []string{"-C opt-level=0", "-C opt-level=0 -C panic=abort", "-C opt-level=0 -C target-feature=+crt-static"}
	for seed := range programs(t, len(flags)) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			w := &rustWriter{Rand: rand.New(rand.NewPCG(uint64(seed), 33))}
			dir := t.TempDir()
			source, binary := filepath.Join(dir, "generated.rs"), filepath.Join(dir, "generated")
			require.NoError(t, os.WriteFile(source, []byte(w.program()), 0o600))
			compile(t, "rustc", append(strings.Fields("-g --edition 2021 "+flags[seed%len(flags)]+" -o"), binary, source)...)
			core, printed := crash(t, binary)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			compareTruths(t, d, printed, "generated::main")
		})
	}
}
