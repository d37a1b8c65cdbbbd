// Command pause holds the namespaces of a pod, for tests.
package main

import (
	"os"
	"os/signal"
	"syscall"
)

func main() {
	end := make(chan os.Signal, 1)
	signal.Notify(end, syscall.SIGTERM, syscall.SIGINT)
	<-end
}
