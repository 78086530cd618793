// Command racy has three defects of timing, by name. It exits with 1 if the defect shows.
package main

import (
	"fmt"
	"os"
	"sync"
	"time"
)

// lost counts without a lock: updates get lost.
func lost() bool {
	n := 0
	var done sync.WaitGroup
	for range 4 {
		done.Add(1)
		go func() {
			defer done.Done()
			for range 200 {
				n++
			}
		}()
	}
	done.Wait()
	return n != 800
}

type slot struct {
	mu   sync.Mutex
	free int
}

func (s *slot) has() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.free > 0
}

func (s *slot) take() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.free--
}

// checked looks and takes under two locks: somebody else takes in between.
func checked() bool {
	s := &slot{free: 1}
	var done sync.WaitGroup
	start := make(chan struct{})
	for range 4 {
		done.Add(1)
		go func() {
			defer done.Done()
			<-start
			if s.has() {
				s.take()
			}
		}()
	}
	close(start)
	done.Wait()
	return s.free < 0
}

// late gives up a moment before the answer comes.
func late() bool {
	answer := make(chan int, 1)
	go func() {
		time.Sleep(2 * time.Millisecond)
		answer <- 1
	}()
	select {
	case <-answer:
		return false
	case <-time.After(4 * time.Millisecond):
		return true
	}
}

func main() {
	if map[string]func() bool{"lost": lost, "checked": checked, "late": late}[os.Args[1]]() {
		fmt.Println("it showed")
		os.Exit(1)
	}
}
