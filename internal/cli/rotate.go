package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/life"
	"hen-roost/internal/service/rounds"
)

// handing are the options of new passwords.
type handing struct {
	aloud, lasting bool
	batch          string
	hours          int
}

func (h *handing) flags(c *cobra.Command) {
	c.Flags().BoolVar(&h.aloud, "aloud", false, "passwords that are easy to read out on a telephone")
	c.Flags().BoolVar(&h.lasting, "lasting", false, "they need not be changed at the first sign-in")
	c.Flags().StringVar(&h.batch, "batch", "", "hand them over together, under this name: roost handover seal, roost handover print")
	c.Flags().IntVar(&h.hours, "hours", 72, "how long they wait to be collected")
}

func (h *handing) into(m map[string]any) map[string]any {
	m["aloud"], m["keeps"], m["batch"], m["hours"] = h.aloud, h.lasting, h.batch, h.hours
	return m
}

func (a *app) rotate() *cobra.Command {
	var because, where, file, secret, hash string
	var at, accounts []string
	var h handing
	var until string
	var given, show, later, key, alone, certificate bool
	var into string
	var days int
	c := &cobra.Command{Use: "rotate [USERS…]", Short: "Give people new passwords: set, proved by signing in, and handed over once",
		Long: `Give people new passwords, on all their accounts or on some targets; or one of them a key pair (--key) or a
client certificate (--certificate). Each is made and sealed at once, brought to the targets, signed in with,
and handed over: over a link that works once, with a code that you tell them in another way, or with --show
to you, who are named in the record. A password must be changed at the first sign-in where the target can
ask for that. Accounts with superuser rights need a second person's approval. Exit
status 4 when an account did not take it.`,
		Example: "  roost rotate kari.berg --aloud --show --because \"forgot it, telephoned\"\n" +
			"  roost rotate marit.fell odd.strand --at staff-directory --because \"seen on a note\"\n" +
			"  roost rotate olga.petrova --at stores-database --account olga.petrova@localhost --because \"seen in a script\"\n" +
			"  roost rotate --secret vessel-key --because \"every quarter\"\n" +
			"  roost rotate --where 'user.details.base == \"southness\"' --batch southness --because \"the office was broken into\"",
		RunE: func(c *cobra.Command, users []string) error {
			if secret != "" {
				return a.renewed(c.Context(), secret, because, users)
			}
			if (key || certificate) && len(at)+len(accounts) > 0 {
				return wrong{errors.New("a key or a certificate is a person's, and opens all their accounts: leave --at and --account out")}
			}
			if certificate {
				if len(users) != 1 {
					return wrong{errors.New("a certificate is issued for one person: name one")}
				}
				var out life.Rotated
				if err := a.send(c.Context(), http.MethodPost, "/users/"+url.PathEscape(users[0])+"/certificates",
					map[string]any{"days": days,
						"hours": h.hours, "because": because}, &out); err != nil {
					return err
				}
				return a.rotated(c.Context(), out, show || into != "", later, into)
			}
			if key {
				if len(users) != 1 {
					return wrong{errors.New("a key is made for one person: name one")}
				}
				var out life.Rotated
				if err := a.send(c.Context(), http.MethodPost, "/users/"+url.PathEscape(users[0])+"/keys",
					map[string]any{"until": until, "alone": alone,
						"hours": h.hours, "because": because}, &out); err != nil {
					return err
				}
				return a.rotated(c.Context(), out, show || into != "", later, into)
			}
			body := h.into(map[string]any{"users": users, "where": where, "targets": at, "accounts": accounts,
				"because": because})
			if given || file != "" {
				p, err := a.secretInput(file, "New password: ", "--password-file")
				if err != nil {
					return err
				}
				body["password"] = string(p)
			}
			if hash != "" {
				p, err := a.secretInput(hash, "Hash: ", "--hash-file")
				if err != nil {
					return err
				}
				body["hash"] = string(p)
			}
			var out life.Rotated
			if err := a.send(c.Context(), http.MethodPost, "/passwords/rotate", body, &out); err != nil {
				return err
			}
			return a.rotated(c.Context(), out, show || into != "", later, into)
		}}
	c.PreRunE = func(_ *cobra.Command, users []string) error {
		if into != "" && len(users) != 1 {
			return wrong{errors.New("--save FILE is for what one person gets: name one")}
		}
		return nil
	}
	c.Flags().BoolVar(&key, "key", false, "in place of a password: a key pair, of which the private half is handed over")
	c.Flags().BoolVar(&certificate, "certificate", false, "in place of a password: a client certificate with its key")
	c.Flags().IntVar(&days, "days", 365, "with --certificate: for how many days it is good")
	c.Flags().BoolVar(&alone, "alone", false, "with --key: withdraw all other keys of theirs with it")
	c.Flags().StringVar(&until, "until", "", "the key's last day, as 2027-12-31: a finding tells when it is near")
	c.Flags().StringVar(&where, "where", "", "all for whom a condition holds (CEL over user, day and params)")
	c.Flags().StringSliceVar(&at, "at", nil, "only on these targets")
	c.Flags().StringSliceVar(&accounts, "account", nil, "only accounts of this name, where somebody has several on a target")
	c.Flags().BoolVar(&given, "given", false, "one that they chose: it is asked for, and screened")
	c.Flags().StringVar(&file, "password-file", "", "the same, from a file; - is standard input")
	c.Flags().StringVar(&hash, "hash-file", "", "in place of a password: the hash of one that they have, as crypt(5) writes it; - is "+
		"standard input")
	c.Flags().BoolVar(&show, "show", false, "show it to you, once, to be read out; the record names you")
	saveFlag(c, &into)
	c.Flags().BoolVar(&later, "no-wait", false, "start it and do not follow it")
	c.Flags().StringVar(&secret, "secret", "", "in place of people's: a secret that Hen Roost itself signs in to targets with")
	h.flags(c)
	reasonFlag(c, &because)
	return c
}

// rotated follows new credentials until each is set, shows them where that is asked, and tells of them.
func (a *app) rotated(ctx context.Context, out life.Rotated, show, later bool, into string) error {
	if later || out.Round.ID != 0 && out.Round.State != rounds.Running || len(out.Handovers) == 0 {
		return a.showRotated(ctx, out, nil, "")
	}
	if out.Round.ID != 0 {
		var err error
		if out.Round, err = a.follow(ctx, out.Round); err != nil {
			return err
		}
	}
	if err := a.awaitHandovers(ctx, out.Handovers); err != nil {
		return err
	}
	for i := range out.Links {
		out.Links[i].Handover = out.Handovers[i]
	}
	var list []string // of what is shown
	for _, x := range out.Handovers {
		if !show || x.State != life.ToCollect {
			continue
		}
		list = append(list, fmt.Sprintf("/handovers/%d/show", x.ID))
	}
	return a.showRotated(ctx, out, list, into)
}

// showRotated says of each account whether it has its new password, and how each is collected.
// list is where what is shown is asked for.
func (a *app) showRotated(ctx context.Context, out life.Rotated, list []string, into string) error {
	if !a.forPeople() {
		var shown []life.Shown
		for _, path := range list {
			one, err := a.collected(ctx, path, into)
			if err != nil {
				return err
			}
			if into != "" {
				one.Value = ""
			}
			shown = append(shown, one)
		}
		return a.show(struct {
			life.Rotated
			Shown []life.Shown `json:"shown,omitempty"`
		}{out, shown}, table{})
	}
	t := table{head: []string{"USER", "TARGET", "ACCOUNT", "NEW ONE", "WORDS"}, empty: "Nobody gets one."}
	unset := out.Round.State == rounds.OnHold
	for _, h := range out.Handovers {
		for _, x := range h.Accounts {
			unset = unset || x.State == life.NotSet
			t.rows = append(t.rows, []string{who(h.Name, h.User), x.Target, x.Name, mark(x.State), x.Words})
		}
		if len(h.Accounts) == 0 {
			t.rows = append(t.rows, []string{who(h.Name, h.User), "", "", mark(h.State), h.What + " for no account that could prove it"})
		}
	}
	for _, l := range out.Left {
		t.rows = append(t.rows, []string{l.User, l.Target, l.Name, mark("not set"), l.Words})
	}
	if err := a.show(nil, t); err != nil {
		return err
	}
	fmt.Fprintln(a.Out)
	if out.Round.State == rounds.OnHold {
		fmt.Fprintf(a.Out, "%s.\n", capital(out.Words))
		a.held(out.Round)
	}
	for _, path := range list {
		if _, err := a.collected(ctx, path, into); err != nil {
			return err
		}
	}
	if len(list) == 0 {
		if err := a.showLinks(out.Links); err != nil {
			return err
		}
	}
	if unset {
		return exit{exitSteps}
	}
	return nil
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
