// Tarnwold explains and manages who may do what on file servers.
package main

import (
	"os"

	"tarnwold/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
