// Command waits leaves goroutines that wait for each other, prints and logs, works
// long enough to fill a ring, and ends with the code that it is given.
package main

import (
	"fmt"
	"log"
	"log/slog"
	"os"
	"strconv"
	"sync"
	"time"
)

type lock struct{ sync.Mutex }

var logger = slog.New(slog.NewTextHandler(os.Stderr, nil))

func main() {
	code, _ := strconv.Atoi(os.Args[1])
	var gate lock
	gate.Lock()
	never := make(chan int)
	go receives(never)
	go locks(&gate)
	done := make(chan bool)
	go func() {
		time.Sleep(5 * time.Millisecond)
		done <- true
	}()
	<-done
	fmt.Println("printed", code)
	log.Printf("logged %d", code)
	logger.Info("structured", "code", code)
	fmt.Fprint(os.Stderr, "to stderr\n")
	total := 0
	for i := range 60_000 {
		total = work(total, i)
	}
	time.Sleep(5 * time.Millisecond)
	if err := finish(total, code); err != nil {
		os.Exit(code)
	}
}

func receives(never chan int) {
	n := <-never
	fmt.Println("never", n)
}

func locks(gate *lock) {
	gate.Lock()
	defer gate.Unlock()
	fmt.Println("never")
}

func work(total, i int) int {
	next := total + i
	return next % 1000
}

func finish(total, code int) error {
	if code != 0 {
		return fmt.Errorf("total %d, code %d", total, code)
	}
	return nil
}
