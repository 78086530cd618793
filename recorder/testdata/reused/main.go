// Program reused lets code that is not recorded make objects where others were that the log has.
package main

import (
	"container/list"
	"runtime"
)

// look makes the log have an object.
func look(e *list.Element) any { return e.Value }

func forget(round int) {
	for i := range 400 {
		look(list.New().PushBack(round*1000 + i))
	}
}

func main() {
	for round := range 40 {
		forget(round)
		runtime.GC()
		vessels := list.New()
		vessels.PushBack(-round)
		_ = round // moored
	}
}
