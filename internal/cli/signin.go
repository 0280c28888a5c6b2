package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hen-roost/internal/api"
	"hen-roost/internal/client"
)

// profile is what a sign-in leaves behind for later commands.
type profile struct {
	Server      string `json:"server"`
	Operator    string `json:"operator"`
	Token       string `json:"token"`
	Fingerprint string `json:"fingerprint,omitempty"`
}

// profileFile is $ROOST_PROFILE, or sign-in.json in the user's folder for settings.
func (a *app) profileFile() (string, error) {
	if f := a.Getenv("ROOST_PROFILE"); f != "" {
		return f, nil
	}
	dir := a.Getenv("XDG_CONFIG_HOME")
	if dir == "" {
		home := a.Getenv("HOME")
		if home == "" {
			return "", errors.New("neither ROOST_PROFILE nor HOME is set, so there is no place for the sign-in")
		}
		dir = filepath.Join(home, ".config")
	}
	return filepath.Join(dir, "hen-roost", "sign-in.json"), nil
}

func (a *app) profile() (profile, error) {
	var p profile
	file, err := a.profileFile()
	if err != nil {
		return p, err
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return p, errors.New("you are not signed in: roost sign-in https://HOST:PORT")
	}
	if err != nil {
		return p, err
	}
	if err := json.Unmarshal(b, &p); err != nil {
		return p, fmt.Errorf("%s cannot be read; sign in again: %w", file, err)
	}
	return p, nil
}

func (p profile) write(file string) error {
	b, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	draft := file + ".new"
	if err := os.WriteFile(draft, append(b, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(draft, file)
}

// client is the signed-in client: by ROOST_SERVER and ROOST_TOKEN, or by the last sign-in.
func (a *app) client() (*client.Client, error) {
	a.signing.Lock()
	defer a.signing.Unlock()
	if a.signed != nil {
		return a.signed, nil
	}
	cl, err := a.newClient()
	if err == nil {
		a.signed = cl
	}
	return cl, err
}

func (a *app) newClient() (*client.Client, error) {
	if server, token := a.Getenv("ROOST_SERVER"), a.Getenv("ROOST_TOKEN"); server != "" && token != "" {
		return client.New(server, token, a.Getenv("ROOST_FINGERPRINT")), nil
	}
	p, err := a.profile()
	if err != nil {
		return nil, err
	}
	return client.New(p.Server, p.Token, p.Fingerprint), nil
}

func (a *app) signIn() *cobra.Command {
	var operator, file, print string
	c := &cobra.Command{
		Use: "sign-in SERVER", Short: "Sign in to a service, for this and later commands", Args: cobra.ExactArgs(1),
		Long: `Sign in to a service. The password is asked for, or read from a file or from
standard input; it is never an argument. What stays behind is an API token of
this name and machine, readable by you alone; roost sign-out ends it.`,
		Example: `  roost sign-in https://127.0.0.1:8460 --operator odd.strand
  roost sign-in https://roost.ternsound.example --operator odd.strand --password-file - < password`,
		RunE: func(c *cobra.Command, args []string) error {
			out, err := a.profileFile()
			if err != nil {
				return err
			}
			if operator == "" {
				if operator, err = a.ask("Operator: "); err != nil {
					return err
				}
			}
			password, err := a.secretInput(file, "Password: ", "--password-file")
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			in := map[string]string{"name": operator, "password": string(password), "token": "command line on " + host}
			var who api.SignedIn
			cl := client.New(args[0], "", print)
			err = cl.Send(c.Context(), http.MethodPost, "/session", in, &who)
			var stranger *client.StrangerError
			if errors.As(err, &stranger) && stranger.Accepted == "" && a.Terminal {
				yes, aerr := a.yes(fmt.Sprintf("%s shows the certificate %s.\nIs that what the service printed at its start? [y/N] ",
					args[0], stranger.Print))
				if aerr != nil || !yes {
					return errors.Join(aerr, stranger)
				}
				print = stranger.Print
				err = client.New(args[0], "", print).Send(c.Context(), http.MethodPost, "/session", in, &who)
			}
			if err != nil {
				return err
			}
			p := profile{Server: cl.Server, Operator: who.Name, Token: who.Secret, Fingerprint: print}
			if err := p.write(out); err != nil {
				return err
			}
			var duties []string
			for _, d := range who.Duties {
				duties = append(duties, string(d))
			}
			a.tell("Signed in to %s as %s, who may %s.", cl.Server, who.Name, strings.Join(duties, ", "))
			return nil
		},
	}
	c.Flags().StringVar(&operator, "operator", "", "who signs in")
	c.Flags().StringVar(&file, "password-file", "", "file with the password; - is standard input")
	c.Flags().StringVar(&print, "fingerprint", "", "accept exactly this certificate of the service")
	return c
}

func (a *app) signOut() *cobra.Command {
	return &cobra.Command{Use: "sign-out", Short: "End the sign-in of this machine", Args: cobra.NoArgs, Example: "  roost sign-out",
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.profile()
			if err != nil {
				return err
			}
			file, err := a.profileFile()
			if err != nil {
				return err
			}
			err = client.New(p.Server, p.Token, p.Fingerprint).Send(c.Context(), http.MethodDelete, "/session", nil, nil)
			var problem *client.Problem
			if err != nil && !(errors.As(err, &problem) && problem.Status == http.StatusUnauthorized) {
				return err
			}
			a.tell("Signed out of %s.", p.Server)
			return os.Remove(file)
		}}
}

// ask prompts a person for a line.
func (a *app) ask(prompt string) (string, error) {
	if !a.Terminal {
		return "", wrong{fmt.Errorf("there is no terminal to ask on: %s", strings.TrimRight(prompt, ": "))}
	}
	fmt.Fprint(a.Err, prompt)
	line, err := answer(a, func() (string, error) { return bufio.NewReader(a.In).ReadString('\n') })
	return strings.TrimSpace(line), err
}

// answer waits for what a person types, or for them to interrupt.
func answer[T any](a *app, read func() (T, error)) (T, error) {
	type typed struct {
		what T
		err  error
	}
	got := make(chan typed, 1)
	go func() {
		what, err := read()
		got <- typed{what, err}
	}()
	select {
	case t := <-got:
		return t.what, t.err
	case <-a.ctx.Done():
		fmt.Fprintln(a.Err)
		var none T
		return none, a.ctx.Err()
	}
}

func (a *app) yes(prompt string) (bool, error) {
	answer, err := a.ask(prompt)
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes"), err
}

// secretInput reads a secret from a file, from standard input (-), or from a
// prompt that does not echo. One line end at its end is left out.
func (a *app) secretInput(file, prompt, option string) ([]byte, error) {
	var b []byte
	var err error
	switch {
	case file == "-":
		b, err = io.ReadAll(io.LimitReader(a.In, 1<<20))
	case file != "":
		b, err = os.ReadFile(file)
	case a.Terminal:
		fmt.Fprint(a.Err, prompt)
		before, serr := term.GetState(int(os.Stdin.Fd()))
		b, err = answer(a, func() ([]byte, error) { return term.ReadPassword(int(os.Stdin.Fd())) })
		if serr == nil { // who interrupts sees again what they type
			_ = term.Restore(int(os.Stdin.Fd()), before)
		}
		fmt.Fprintln(a.Err)
	default:
		return nil, wrong{fmt.Errorf("there is no terminal to ask on; use %s FILE, or %s - for standard input", option, option)}
	}
	b = bytes.TrimSuffix(bytes.TrimSuffix(b, []byte("\n")), []byte("\r"))
	if err == nil && len(b) == 0 {
		err = wrong{fmt.Errorf("what was given for %s is empty", option)}
	}
	return b, err
}

// get is a signed-in GET.
func (a *app) get(ctx context.Context, path string, q map[string][]string, out any) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	return cl.Get(ctx, path, q, out)
}

// send is a signed-in POST, PUT or DELETE.
func (a *app) send(ctx context.Context, method, path string, in, out any) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	return cl.Send(ctx, method, path, in, out)
}
