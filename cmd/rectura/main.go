// Command rectura writes, tests and runs control rules.
package main

import (
	"os"

	"rectura/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
