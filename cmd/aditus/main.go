// Command aditus brings declared workloads to the sites where they run, in staged and watched rollouts.
package main

import (
	"os"

	"aditus/internal/cli"
)

func main() { os.Exit(cli.Main()) }
