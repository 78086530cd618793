// Command gosluice panics while other goroutines wait, and prints what its
// traceback has to say.
package main

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"sync"
)

type sensor struct{ levels []int }

type reader interface{ level(gate int) int }

//go:noinline
func (s *sensor) level(gate int) int { return s.levels[gate] }

//go:noinline
func open(r reader, gate int) (err error) {
	defer func() {
		if p := recover(); p != nil {
			tell()
			panic(fmt.Errorf("gate %d does not answer: %v", gate, p))
		}
	}()
	fmt.Println(r.level(gate))
	return nil
}

func tell() {
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(1, pcs)])
	for {
		f, more := frames.Next()
		if strings.HasPrefix(f.Function, "main.") && f.Function != "main.tell" && f.Function != "main.open.func1" {
			fmt.Printf("frame\t%s\t%s\t%d\n", f.Function, f.File, f.Line)
		}
		if !more {
			return
		}
	}
}

func main() {
	if len(os.Args) > 1 && os.Args[1] == "deadlock" {
		var mu sync.Mutex
		mu.Lock()
		mu.Lock()
	}
	if len(os.Args) > 1 && os.Args[1] == "nil" {
		var s *sensor
		fmt.Println(s.level(3))
	}
	if len(os.Args) > 1 && os.Args[1] == "error" {
		panic(errors.Join(errors.New("gate stuck"), errors.New("no power")))
	}
	block := make(chan int)
	var started sync.WaitGroup
	for range 12 {
		started.Add(1)
		go func() {
			started.Done()
			<-block
		}()
	}
	started.Wait()
	var s reader = &sensor{levels: []int{3, 4}}
	if err := open(s, 7); err != nil {
		panic(err)
	}
}
