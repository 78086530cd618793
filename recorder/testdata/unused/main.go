// Program unused lets code that is not recorded use the memory of lists that the program does not use any more.
package main

import (
	"fmt"
	"runtime"
	"strings"
)

// last looks at a list, and so makes the log have it.
func last(list []string) string { return list[len(list)-1] }

func moor(round int) {
	vessels := []string{fmt.Sprint("Plover ", round), fmt.Sprint("Fulmar ", round)}
	alive := []string{fmt.Sprint("Gannet ", round), fmt.Sprint("Petrel ", round)}
	last(vessels)
	last(alive)
	runtime.GC()
	var fog [][]string
	for i := range 600 {
		fog = append(fog, strings.Fields(fmt.Sprint("fog ", i)))
		last(fog[i])
	}
	_ = fog // moored
	last(alive)
	_ = fog // ended
}

func main() {
	for round := range 20 {
		moor(round)
	}
}
