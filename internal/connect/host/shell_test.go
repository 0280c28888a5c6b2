package host_test

import (
	"context"
	"errors"
	"io"
	"net"
	osexec "os/exec"
	"reflect"
	"testing"

	"hen-roost/internal/connect"
	"hen-roost/internal/connect/connecttest"
	"hen-roost/internal/connect/host"
	"hen-roost/internal/core/model"
	"hen-roost/internal/demo/world"
)

// beside is a shell beside a host's sshd.
type beside struct{ h *world.Host }

func (b beside) Exec(ctx context.Context, command string, in io.Reader, out, said io.Writer) error {
	words := []string{"/bin/sh", "-s"}
	if command != "" {
		words = []string{"/bin/sh", "-c", command}
	}
	cmd, err := b.h.Command(ctx, words...)
	if err != nil {
		return err
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, said
	err = cmd.Run()
	var exit *osexec.ExitError
	if errors.As(err, &exit) && exit.Exited() {
		return host.Ended(exit.ExitCode())
	}
	return err
}

func (beside) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, network, address)
}

func (beside) Close() error { return nil }

// Whatever shell a host is reached through, it is the same host, and the same is done.
func TestShells(t *testing.T) {
	t.Parallel()
	h, a := start(t, "useradd -m -u 1701 jarle.holm")
	inside := host.On(a, beside{h})
	all := func(s connect.Session) (out []model.Object) {
		if err := s.Survey(context.Background(), func(o model.Object) error { out = append(out, o); return nil }); err != nil {
			t.Fatal(err)
		}
		return out
	}
	same := func(after string) {
		t.Helper()
		if over, beside := all(connecttest.Open(t, host.Connector{}, a)), all(inside); !reflect.DeepEqual(over, beside) {
			t.Errorf("after %s, a survey over SSH and one beside it:\n%+v\n%+v", after, over, beside)
		}
	}
	same("the beginning")
	apply(t, inside, connect.Done, act(model.Create, model.Account, "marit.fell"), elevate(model.JoinIt, "marit.fell", "all"),
		act(model.Disable, model.Account, "jarle.holm", change(model.Disabled, "no", "yes")))
	same("acts from beside")
	apply(t, inside, connect.Done, act(model.Remove, model.Account, "jarle.holm"))
	if said, status, err := inside.Offers().Run(context.Background(), []string{"sh", "-c", "cat; exit 3"}, "ahoy", 100); said != "ahoy" ||
		status != 3 || err != nil {
		t.Errorf("%q %d %v", said, status, err)
	}
	if inside.Offers().Prove != nil {
		t.Error("a shell alone offers to try sign-ins")
	}
}
