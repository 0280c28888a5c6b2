package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"
)

type doors struct{}

// standLarge starts the large company and waits to be interrupted.
func standLarge(w *workbench) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	l, err := startLarge(ctx, w)
	if err != nil {
		return err
	}
	fmt.Printf("# standing in %s\nexport ROOST_PROFILE=%s\n", w.dir, l.profile)
	<-ctx.Done()
	return nil
}
