package world

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"time"
)

// server is the process of a sample system.
type server struct {
	cmd  *exec.Cmd
	gone chan struct{}
}

// run starts a command, whose words go behind those in a file, and waits until it listens and answers. answers may be nil.
func (s *server) run(ctx context.Context, cmd *exec.Cmd, log, address string, answers func() error) error {
	to, err := os.OpenFile(log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer to.Close()
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	}
	cmd.SysProcAttr.Setsid = true
	cmd.Stdout, cmd.Stderr = to, to
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("%s: %w", cmd.Path, err)
	}
	s.cmd, s.gone = cmd, make(chan struct{})
	go func(gone chan struct{}) {
		_ = cmd.Wait()
		close(gone)
	}(s.gone)
	if err := awaitPort(ctx, address, s.gone, log); err != nil || answers == nil {
		return err
	}
	for range 1000 { // it listens before it lets anybody in
		if err = answers(); err == nil {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return err
}

// PID is the server's process.
func (s *server) PID() int { return s.cmd.Process.Pid }

// end asks the process to end, and waits until it is gone.
func (s *server) end(signal syscall.Signal) {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(signal)
	select {
	case <-s.gone:
	case <-time.After(10 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.gone
	}
}
