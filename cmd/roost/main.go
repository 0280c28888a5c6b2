// Command roost is Hen Roost: the service, its command line and its demo, in one binary.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"hen-roost/internal/cli"
)

// version is set when the binary is built.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, cli.System(version), os.Args[1:])
	stop()
	os.Exit(code)
}
