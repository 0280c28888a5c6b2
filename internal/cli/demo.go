package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"

	"github.com/spf13/cobra"

	"hen-roost/internal/demo"
)

func (a *app) demo() *cobra.Command {
	var dir, listen, level string
	var once bool
	c := &cobra.Command{Use: "demo", Short: "Start the sample world: Tern Sound Ferries", Args: cobra.NoArgs,
		Long: `Start the sample world on loopback: three vessels and a harbour (each a real sshd
in namespaces of its own), a staff directory (a real slapd), and a service that looks after
them. It prints "ready" with address and first sign-in, and stays until interrupted; then
nothing of it is left running. It needs root, for the namespaces.`,
		Example: "  roost demo\n  roost demo --once\n  roost demo --dir /tmp/second --listen 127.0.0.1:9000",
		RunE: func(c *cobra.Command, _ []string) error {
			if dir == "" {
				made, err := os.MkdirTemp("", "roost")
				if err != nil {
					return err
				}
				defer os.RemoveAll(made)
				if err := os.Chmod(made, 0o755); err != nil {
					return err
				}
				dir = made + "/demo"
			}
			log, err := logger(a.Err, "text", level)
			if err != nil {
				return err
			}
			slog.SetDefault(log)
			d, err := demo.Start(c.Context(), demo.Options{Dir: dir, Listen: listen, Log: log, Version: a.Version, Second: !once})
			if err != nil {
				return err
			}
			defer d.Close()
			if once {
				if err := d.Once(c.Context(), a.Out, a.roost(d.Profile, a.Out)); err != nil {
					return err
				}
				fmt.Fprintln(a.Out, "\nEvery stage held.")
				return nil
			}
			if err := d.Prepare(c.Context(), a.roost(d.Profile, io.Discard)); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "ready %s operator %s password %s\n", d.Server.Address, demo.Operator, d.Password)
			a.tell("\nThe console is at %s (its certificate is self-made: %s).\nThe declaration is in %s. For the command line, in "+
				"another terminal:\n  export ROOST_PROFILE=%s\n  roost drift", d.Server.Address, d.Server.Print, d.Declaration, d.Profile)
			a.tell("What is held, %s approves, in a third:\n  export ROOST_PROFILE=%s\n  roost round list", demo.Second, d.Approver)
			a.tell("Interrupt (Ctrl-C) ends it all.")
			select {
			case <-c.Context().Done():
				return nil
			case err := <-d.Server.Failed():
				return err
			}
		}}
	c.Flags().StringVar(&dir, "dir", "", "folder to work in; what an earlier demo left there is forgotten (default: a temporary one)")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "address of the service; port 0 picks a free one")
	c.Flags().StringVar(&level, "log-level", "warn", "debug, info, warn or error")
	c.Flags().BoolVar(&once, "once", false, "tell the whole story on the terminal and end; exit status 0 only if every stage held")
	return c
}

// roost runs commands in this process, signed in by the demo's profile.
func (a *app) roost(profile string, out io.Writer) demo.Roost {
	env := a.Env
	env.Out, env.Err, env.Terminal = out, out, false
	env.Getenv = func(name string) string {
		if name == "ROOST_PROFILE" {
			return profile
		}
		return ""
	}
	return func(ctx context.Context, args ...string) int { return Run(ctx, env, args) }
}
