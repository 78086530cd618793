package main

import (
	"context"
	"os"
	"runtime/pprof"

	"wraithology/cli"
	"wraithology/sandbox"
)

func main() {
	sandbox.Enter()
	f, _ := os.Create("/tmp/cpu.prof")
	pprof.StartCPUProfile(f)
	code := cli.Main(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
	pprof.StopCPUProfile()
	os.Exit(code)
}
