// Command eager is Eager Window: the service and its command line.
package main

import (
	"os"

	"eagerwindow/console"
	"eagerwindow/internal/cli"
	"eagerwindow/internal/server"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], cli.Surroundings{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Handler: server.New, Metrics: server.Metrics, HTTP: server.HTTP, Console: console.Files(),
	}))
}
