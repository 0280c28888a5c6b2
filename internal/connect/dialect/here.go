package dialect

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"hen-roost/internal/connect"
)

// here is our own host. Programs are found where the system keeps them, and see nothing of our surroundings.
type here struct {
	over context.Context
	end  context.CancelFunc
}

// places are where programs are looked for.
const places = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// openHere is our own host, until it is closed.
func openHere(context.Context) (connect.Host, error) {
	over, end := context.WithCancel(context.Background())
	return here{over, end}, nil
}

// Close implements connect.Host.
func (h here) Close() error {
	h.end()
	return nil
}

// Run implements connect.Runner. When the context ends, so does all that the program began.
func (h here) Run(ctx context.Context, program []string, input string, most int) (said string, status int, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(h.over, cancel)()
	file, err := find(program[0])
	if err != nil {
		return "", 0, err
	}
	out := &bounded{most: most}
	run := exec.CommandContext(ctx, file, program[1:]...)
	run.Env, run.Dir = []string{"PATH=" + places, "LANG=C.UTF-8"}, "/"
	run.Stdin, run.Stdout, run.Stderr = strings.NewReader(input), out, out
	run.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	run.Cancel = func() error { return syscall.Kill(-run.Process.Pid, syscall.SIGKILL) }
	run.WaitDelay = time.Second
	err = run.Run()
	var ended *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", 0, ctx.Err()
	case out.over:
		return "", 0, fmt.Errorf("it answers with more than %d bytes", most)
	case errors.As(err, &ended) && ended.Exited():
		return string(out.text), ended.ExitCode(), nil
	case errors.Is(err, exec.ErrWaitDelay): // it has ended well, and left something behind that still could say more
		return string(out.text), 0, nil
	}
	return string(out.text), 0, err
}

// find is the file of a program.
func find(program string) (string, error) {
	if strings.HasPrefix(program, "/") {
		return program, nil
	}
	for dir := range strings.SplitSeq(places, ":") {
		if file, err := exec.LookPath(dir + "/" + program); err == nil {
			return file, nil
		}
	}
	return "", fmt.Errorf("there is no program %s in %s", connect.Printable(program), places)
}
