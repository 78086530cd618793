// Command panics prints the text of a panic, panics in the same way again, and is
// ended by a signal while its deferred calls run: the panic's value is then as the
// program made it, not as the runtime prints it. Its argument is a number; with another one, the
// panic itself ends it.
package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"strconv"
	"syscall"
)

type codeError struct {
	code    int
	message string
}

func (e codeError) Error() string { return e.message }

type wrapping struct{ Err error }

func (w *wrapping) Error() string { return w.Err.Error() }

type unreadable struct{ Depth int }

func (u unreadable) Error() string { return "unreadable" }

type tide struct{ metres int }

var (
	list        = []int{1, 2, 3, 4}
	text        = "Kelp Quay"
	some    any = "seven"
	nothing any
	array   [3]int
	table   map[string]int
	missing *tide
	lapsed  = errors.New("the licence has lapsed")
)

//go:noinline
func n(i int) int { return i }

func use(...any) {}

var ways = []func(){
	func() { use(list[n(9)]) },
	func() { use(list[n(-3)]) },
	func() { use(array[n(7)]) },
	func() { use(text[n(30)]) },
	func() { use(list[:n(12)]) },
	func() { use(list[n(6):]) },
	func() { use(list[n(3):n(2)]) },
	func() { use(text[:n(40)]) },
	func() { use(text[n(5):n(1)]) },
	func() { use(array[:n(5)]) },
	func() { use(list[:2:n(11)]) },
	func() { use(list[:n(4):n(3)]) },
	func() { use(list[n(4):n(3):4]) },
	func() { use([3]int(list[:n(2)])) },
	func() { use(some.(int)) },
	func() { use(nothing.(int)) },
	func() { use(some.(io.Reader)) },
	func() { use(nothing.(io.Reader)) },
	func() { use(some.(*tide)) },
	func() { use(7 / n(0)) },
	func() { table["x"] = n(1) },
	func() { use(make([]int, n(-1))) },
	func() { use(1 << n(-2)) },
	func() { close((chan int)(nil)) },
	func() { c := make(chan int); close(c); c <- n(1) },
	func() { panic("the tide book is empty") },
	func() { panic(lapsed) },
	func() { panic(fmt.Errorf("pilot %d: %w", 11, lapsed)) },
	func() { panic(codeError{3, "no berth is free"}) },
	func() { panic(&codeError{4, "the lock is shut"}) },
	func() { panic(&wrapping{lapsed}) },
	func() { panic(&wrapping{&wrapping{&codeError{5, "deep"}}}) },
	func() { panic(fmt.Sprint("made ", "here")) },
	func() { panic(42) },
	func() { panic(7.25) },
	func() { panic(true) },
	func() { panic(unreadable{6}) },
	func() { use(missing.metres) },
}

func attempt(way func()) (text string) {
	defer func() { text = fmt.Sprint(recover()) }()
	way()
	return
}

func main() {
	debug.SetTraceback("crash")
	i, err := strconv.Atoi(os.Args[1])
	if err != nil || i >= len(ways) {
		fmt.Println("there is no such way")
		os.Exit(3)
	}
	fmt.Printf("%d\n%s\n", len(ways), attempt(ways[i]))
	if len(os.Args) > 2 { // it is to end by the panic itself
		ways[i]()
	}
	defer func() {
		_ = syscall.Tgkill(os.Getpid(), syscall.Gettid(), syscall.SIGABRT)
		select {}
	}()
	ways[i]()
}
