// Command wraith is the command-line client of Wraithology: it records programs,
// asks local evidence by itself and shared evidence through the service.
package main

import (
	"context"
	"os"

	"wraithology/cli"
)

func main() {
	os.Exit(cli.Main(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
