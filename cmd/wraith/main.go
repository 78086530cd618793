// Command wraith is the command-line client of Wraithology. It records programs, asks local
// evidence directly, and asks shared evidence through the service.
package main

import (
	"context"
	"os"

	"wraithology/cli"
	"wraithology/sandbox"
)

func main() {
	sandbox.Enter()
	os.Exit(cli.Main(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
