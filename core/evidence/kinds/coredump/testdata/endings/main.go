// Command endings ends in the way that its argument names.
package main

import (
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"syscall"
)

type berth struct {
	Name  string
	quays []int
	table map[string]int
}

type shallowError struct {
	Vessel string
	Metres float64
}

func (e *shallowError) Error() string { return fmt.Sprintf("%s needs %v m", e.Vessel, e.Metres) }

var errLapsed = errors.New("the licence has lapsed")

//go:noinline
func (b *berth) name() string { return b.Name }

//go:noinline
func endless(n int) int { return endless(n+1) + n }

//go:noinline
func convert(v any) int { return v.(int) }

func main() {
	debug.SetTraceback("crash")
	var none *berth
	b := &berth{Name: "Kelp Quay", quays: []int{1, 2}}
	switch os.Args[1] {
	case "nil":
		fmt.Println(none.name())
	case "index":
		fmt.Println(b.quays[len(os.Args)+3])
	case "map":
		b.table["x"] = 1
	case "text":
		panic("the tide book is empty")
	case "error":
		panic(fmt.Errorf("pilot 11: %w", errLapsed))
	case "own":
		panic(&shallowError{"Halcyon Drift", 7.5})
	case "number":
		panic(42)
	case "again":
		defer func() { panic(fmt.Sprint("while handling: ", recover())) }()
		panic("first")
	case "assertion":
		fmt.Println(convert("seven"))
	case "divide":
		fmt.Println(7 / (len(os.Args) - 2))
	case "deadlock":
		<-make(chan int)
	case "stack":
		fmt.Println(endless(0))
	case "signal":
		_ = syscall.Kill(os.Getpid(), syscall.SIGABRT)
		select {}
	}
}
