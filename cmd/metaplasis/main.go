// Command metaplasis is the live origin: the service, its demo, and the commands that steer it.
package main

import (
	"os"

	"metaplasis/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
