// The program's goroutines pass a map to code that is not recorded, release whoever waits, and go on
// for a while in deferred calls.
package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"sync"
	"time"
)

type pier struct {
	mu   sync.Mutex
	lots map[string]int
}

func (p *pier) unlock() { p.mu.Unlock() }

func lingers() { time.Sleep(time.Millisecond) }

func inStatement(wg *sync.WaitGroup, p *pier) {
	defer lingers()
	defer wg.Done()
	maps.Copy(p.lots, map[string]int{"ebb": 1})
}

func inLiteral(wg *sync.WaitGroup, p *pier) {
	defer lingers()
	defer func() { wg.Done() }()
	maps.Copy(p.lots, map[string]int{"ebb": 2})
}

func inMethod(wg *sync.WaitGroup, p *pier) {
	defer lingers()
	defer wg.Done()
	p.mu.Lock()
	defer p.unlock()
	maps.Copy(p.lots, map[string]int{"ebb": 3})
}

func inDeferred(wg *sync.WaitGroup, p *pier) {
	defer lingers()
	defer wg.Done()
	defer json.Unmarshal([]byte(`{"ebb": 4}`), &p.lots)
}

func main() {
	p := &pier{lots: map[string]int{"swell": 70}}
	for _, run := range []func(*sync.WaitGroup, *pier){inStatement, inLiteral, inMethod, inDeferred} {
		var wg sync.WaitGroup
		wg.Add(1)
		go run(&wg, p)
		wg.Wait()
		fmt.Println(p.lots["ebb"])
		p.lots["ebb"] = 0
	}
	time.Sleep(100 * time.Millisecond) // the others end
}
