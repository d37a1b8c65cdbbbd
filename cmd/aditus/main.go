// Command aditus brings declared workloads to the sites where they run, in staged and watched rollouts.
package main

import (
	"os"
	_ "time/tzdata" // for machines that have no time zones of their own

	_ "golang.org/x/crypto/x509roots/fallback" // and those that trust nobody, as images with nothing else in them

	"aditus/internal/cli"
)

func main() { os.Exit(cli.Main()) }
