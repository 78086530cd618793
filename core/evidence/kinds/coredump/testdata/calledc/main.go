// Command calledc crashes in C code that Go calls.
package main

/*
#cgo CFLAGS: -O0
#include <stdlib.h>
struct berth { int depth; };
__attribute__((noinline)) static int depth_of(struct berth *b) { return b->depth; }
__attribute__((noinline)) static int plan(struct berth *b, int n) { return depth_of(b) + n; }
static void give_up(void) { abort(); }
*/
import "C"

import (
	"fmt"
	"os"
	"runtime/debug"
	"syscall"
)

//go:noinline
func look(n int) int { return int(C.plan(nil, C.int(n))) }

func main() {
	debug.SetTraceback("crash")
	switch os.Args[1] {
	case "null":
		fmt.Println(look(3))
	case "abort":
		C.give_up()
	case "sent":
		syscall.Kill(os.Getpid(), syscall.SIGSEGV)
		select {}
	}
}
