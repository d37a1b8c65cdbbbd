// Command aditus brings declared workloads to the sites where they run, in staged and watched rollouts.
package main

import (
	"os"
	_ "time/tzdata" // for machines that have no time zones of their own

	"aditus/internal/cli"
)

func main() { os.Exit(cli.Main()) }
