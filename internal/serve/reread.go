package serve

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"
)

// The files that teach kinds of targets are read anew when one of them changed, and at the signal that asks for it (SIGHUP). What
// cannot be taken is told in the log, and all stays as it was.

// rereadEvery is how often the files are looked at.
const rereadEvery = 2 * time.Second

// reread looks after the dialects until the service ends.
func (s *Server) reread(ctx context.Context, c Config, known *keptDialects) {
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGHUP)
	defer signal.Stop(asked)
	tick := time.NewTicker(rereadEvery)
	defer tick.Stop()
	if c.Dialects == "" {
		tick.Stop()
	}
	taken := look(c.Dialects)
	for last := taken; ; {
		select {
		case <-ctx.Done():
			return
		case <-asked:
			last, taken = look(c.Dialects), ""
		case <-tick.C:
			if now := look(c.Dialects); now != last { // it is still being written
				last = now
				continue
			}
		}
		if last != taken {
			taken = last
			s.relearn(ctx, c, known)
		}
	}
}

// relearn reads the dialects, and takes what they teach.
func (s *Server) relearn(ctx context.Context, c Config, known *keptDialects) {
	known.broken = nil
	kinds, err := kindsWith(c.Dialects, known)
	for _, why := range known.broken {
		s.log.Error("a dialect is broken, and targets of its kind stand still; all else goes on", "error", why)
	}
	if err == nil {
		err = s.Service.Relearn(ctx, kinds)
	}
	if err != nil {
		s.log.Error("the dialects were not read anew, and all stays as it was", "error", err)
	}
}

// look is a fingerprint of the files of a folder: their names, sizes and times of change.
func look(folder string) (out string) {
	if folder == "" {
		return ""
	}
	files, _ := filepath.Glob(filepath.Join(folder, "*.yaml"))
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			out += fmt.Sprintf("%s %d %d\n", f, info.Size(), info.ModTime().UnixNano())
		}
	}
	return out
}
