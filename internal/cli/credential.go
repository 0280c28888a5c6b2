package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/api"
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
	var at []string
	var h handing
	var until string
	var given, show, later, key, alone, certificate bool
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
			"  roost rotate --secret vessel-key --because \"every quarter\"\n" +
			"  roost rotate --where 'user.details.base == \"southness\"' --batch southness --because \"the office was broken into\"",
		RunE: func(c *cobra.Command, users []string) error {
			if secret != "" {
				return a.renewed(c.Context(), secret, because, users)
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
				return a.rotated(c.Context(), out, show, later)
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
				return a.rotated(c.Context(), out, show, later)
			}
			body := h.into(map[string]any{"users": users, "where": where, "targets": at, "because": because})
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
			return a.rotated(c.Context(), out, show, later)
		}}
	c.Flags().BoolVar(&key, "key", false, "in place of a password: a key pair, of which the private half is handed over")
	c.Flags().BoolVar(&certificate, "certificate", false, "in place of a password: a client certificate with its key")
	c.Flags().IntVar(&days, "days", 365, "with --certificate: for how many days it is good")
	c.Flags().BoolVar(&alone, "alone", false, "with --key: withdraw all other keys of theirs with it")
	c.Flags().StringVar(&until, "until", "", "the key's last day, as 2027-12-31: a finding tells when it is near")
	c.Flags().StringVar(&where, "where", "", "all for whom a condition holds (CEL over user, day and params)")
	c.Flags().StringSliceVar(&at, "at", nil, "only on these targets")
	c.Flags().BoolVar(&given, "given", false, "one that they chose: it is asked for, and screened")
	c.Flags().StringVar(&file, "password-file", "", "the same, from a file; - is standard input")
	c.Flags().StringVar(&hash, "hash-file", "", "in place of a password: the hash of one that they have, as crypt(5) writes it; - is "+
		"standard input")
	c.Flags().BoolVar(&show, "show", false, "show it to you, once, to be read out; the record names you")
	c.Flags().BoolVar(&later, "no-wait", false, "start it and do not follow it")
	c.Flags().StringVar(&secret, "secret", "", "in place of people's: a secret that Hen Roost itself signs in to targets with")
	h.flags(c)
	reasonFlag(c, &because)
	return c
}

// rotated follows new credentials until each is set, shows them where that is asked, and tells of them.
func (a *app) rotated(ctx context.Context, out life.Rotated, show, later bool) error {
	if later || out.Round.ID != 0 && out.Round.State != rounds.Running || len(out.Handovers) == 0 {
		return a.showRotated(out, nil)
	}
	if out.Round.ID != 0 {
		if _, err := a.follow(ctx, out.Round); err != nil {
			return err
		}
	}
	if err := a.awaitHandovers(ctx, out.Handovers); err != nil {
		return err
	}
	for i := range out.Links {
		out.Links[i].Handover = out.Handovers[i]
	}
	var shown []life.Shown
	for _, x := range out.Handovers {
		if !show || x.State != life.ToCollect {
			continue
		}
		var one life.Shown
		if err := a.send(ctx, http.MethodPost, fmt.Sprintf("/handovers/%d/show", x.ID), nil, &one); err != nil {
			return err
		}
		shown = append(shown, one)
	}
	return a.showRotated(out, shown)
}

// renewed rotates a secret of our own, and says how far it is.
func (a *app) renewed(ctx context.Context, name, because string, users []string) error {
	if len(users) > 0 {
		return wrong{errors.New("people's passwords, or a secret of Hen Roost's own: not both")}
	}
	var out life.RenewedSecret
	if err := a.send(ctx, http.MethodPost, "/secrets/"+url.PathEscape(name)+"/rotate", map[string]any{"because": because},
		&out); err != nil {
		return err
	}
	t := table{head: []string{"TARGET", "NEW SECRET", "WORDS"}, about: capital(out.Words) + "."}
	for _, x := range out.Targets {
		t.rows = append(t.rows, []string{x.Target, mark(x.State), x.Words})
	}
	if err := a.show(out, t); err != nil {
		return err
	}
	if !out.Done {
		return exit{exitSteps}
	}
	return nil
}

// awaitHandovers waits until each that a round sets can be collected, or was taken
// by no account. Those of people who begin later wait for their day.
func (a *app) awaitHandovers(ctx context.Context, list []life.Handover) error {
	for pause := 100 * time.Millisecond; ; pause = min(pause*5/4, time.Second) {
		if err := a.refresh(ctx, list); err != nil {
			return err
		}
		if !slices.ContainsFunc(list, func(h life.Handover) bool { return h.State == life.Made && len(h.Accounts) > 0 }) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// refresh asks how handovers stand now: one by one, or of a batch page by page.
func (a *app) refresh(ctx context.Context, list []life.Handover) error {
	at := map[int64]*life.Handover{}
	for i := range list {
		at[list[i].ID] = &list[i]
	}
	if len(list) == 0 || list[0].Batch == "" {
		for id, h := range at {
			if err := a.get(ctx, fmt.Sprintf("/handovers/%d", id), nil, h); err != nil {
				return err
			}
		}
		return nil
	}
	for before := int64(0); ; {
		var page life.Handovers
		q := url.Values{"batch": {list[0].Batch}, "size": {"1000"}, "before": {fmt.Sprint(before)}}
		if err := a.get(ctx, "/handovers", q, &page); err != nil {
			return err
		}
		for _, h := range page.Items {
			if ours := at[h.ID]; ours != nil {
				*ours = h
			}
		}
		if before = page.Next; before == 0 {
			return nil
		}
	}
}

// showRotated says of each account whether it has its new password, and how each is collected.
func (a *app) showRotated(out life.Rotated, shown []life.Shown) error {
	if !a.forPeople() {
		return a.show(struct {
			life.Rotated
			Shown []life.Shown `json:"shown,omitempty"`
		}{out, shown}, table{})
	}
	t := table{head: []string{"USER", "TARGET", "ACCOUNT", "NEW ONE", "WORDS"}, empty: "Nobody gets one."}
	unset := out.Round.State != rounds.Running && out.Round.ID != 0
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
	}
	for _, s := range shown {
		fmt.Fprintf(a.Out, "The %s of %s, shown this once: %s\n", s.What, who(s.Name, s.User), s.Value)
	}
	if len(shown) == 0 {
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

// showLinks says how each collects what waits for them.
func (a *app) showLinks(links []life.Linked) error {
	if len(links) == 0 {
		return nil
	}
	p, err := a.profile()
	if err != nil {
		return err
	}
	for _, l := range links {
		until := "it waits from when the account is made"
		if l.Handover.ExpiresAt != nil {
			until = "it waits until " + clock(l.Handover.ExpiresAt)
		}
		fmt.Fprintf(a.Out, "%s collects it once at\n  %s%s\nwith the code %s, told in another way; %s.\n", who(l.Handover.Name,
			l.Handover.User),
			strings.TrimSuffix(p.Server, "/"), l.Link, l.Code, until)
	}
	return nil
}

func (a *app) unlock() *cobra.Command {
	var because string
	var at []string
	c := &cobra.Command{Use: "unlock USERS…", Short: "Let people in again who were locked out after wrong passwords",
		Args: cobra.MinimumNArgs(1),
		Long: `Let people in again who were locked out after wrong passwords, or whose password alone is locked. What was
shut on purpose stays shut. Each account is read first: already-so says that it was not locked.`,
		Example: "  roost unlock kari.berg --because \"back from a holiday, telephoned\"\n  roost unlock kari.berg --at staff-directory " +
			"--because \"telephoned\"",
		RunE: func(c *cobra.Command, users []string) error {
			return a.simply(c.Context(), "/passwords/unlock", users, at, because)
		}}
	c.Flags().StringSliceVar(&at, "at", nil, "only on these targets")
	reasonFlag(c, &because)
	return c
}

// simply has something done to accounts, and follows it.
func (a *app) simply(ctx context.Context, path string, users, at []string, because string) error {
	var out life.Rotated
	if err := a.send(ctx, http.MethodPost, path, map[string]any{"users": users, "targets": at, "because": because}, &out); err != nil {
		return err
	}
	if !a.forPeople() {
		return a.show(out, table{})
	}
	for _, l := range out.Left {
		a.tell("%s: %s", strings.TrimSpace(strings.Join([]string{l.User, l.Target, l.Name}, " ")), l.Words)
	}
	fmt.Fprintln(a.Out, capital(out.Words)+".")
	if out.Round.State != rounds.Running {
		return nil
	}
	return a.followed(ctx, out.Round)
}

func (a *app) authority() *cobra.Command {
	var withdrawn bool
	c := &cobra.Command{Use: "authority", Short: "Print the certificate of the service's own authority, for targets to trust",
		Args: cobra.NoArgs,
		Long: `Print the certificate of the service's own authority for client certificates, for targets to trust, or with
--withdrawn the signed list of those that are let in no more: in PEM. Both are open to everybody at
/api/authority and /api/authority/withdrawn, so that targets can fetch them; the list is good for a day.`,
		Example: "  roost authority > hen-roost.pem\n  roost authority --withdrawn > withdrawn.pem",
		RunE: func(c *cobra.Command, _ []string) error {
			path := "/authority"
			if withdrawn {
				path += "/withdrawn"
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			var text strings.Builder
			if err := cl.Copy(c.Context(), path, &text); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(map[string]string{"pem": text.String()}, table{})
			}
			_, err = fmt.Fprint(a.file(), text.String())
			return err
		}}
	c.Flags().BoolVar(&withdrawn, "withdrawn", false, "the list of certificates that are let in no more")
	return c
}

func (a *app) passwords() *cobra.Command {
	c := &cobra.Command{Use: "password", Short: "Try whether a password could be used, or have one changed"}
	var user, file string
	try := &cobra.Command{Use: "try", Short: "Say whether a password could be used, which word it is built from, and what would do",
		Args: cobra.NoArgs,
		Long: `Say whether a password could be used. It is asked for without being shown, or read from a file or standard
input; it is looked at by the service, and nothing of it is kept. Exit status 1 when it could not be used.`,
		Example: "  roost password try --user marit.fell\n  roost password try --password-file - < candidate",
		RunE: func(c *cobra.Command, _ []string) error {
			p, err := a.secretInput(file, "Password: ", "--password-file")
			if err != nil {
				return err
			}
			var out life.Tried
			if err := a.send(c.Context(), http.MethodPost, "/passwords/try", map[string]any{"user": user, "password": string(p)},
				&out); err != nil {
				return err
			}
			words := fmt.Sprintf("It could be used: it stands about ten to the power of %.0f guesses.", out.Guesses)
			if !out.Fit {
				words = "It should not be used: " + strings.Join(out.Why, ", and ") + ".\nBetter: " + out.Try + "."
				if out.Passes {
					words += "\nIt would pass all the same, and be counted: " + strings.Join(out.Policies, ", ") + " only watches."
				}
			}
			if err := a.show(out, table{bare: words}); err != nil {
				return err
			}
			if !out.Fit {
				return exit{exitFailed}
			}
			return nil
		}}
	try.Flags().StringVar(&user, "user", "", "whose it would be: their own names count, and the policies that speak of them")
	try.Flags().StringVar(&file, "password-file", "", "file with the password; - is standard input")
	var because string
	var at []string
	expire := &cobra.Command{Use: "expire USERS…", Short: "Have people change their passwords at the next sign-in",
		Args:    cobra.MinimumNArgs(1),
		Example: "  roost password expire kari.berg marit.fell --because \"the list was left on a table\"",
		RunE: func(c *cobra.Command, users []string) error {
			return a.simply(c.Context(), "/passwords/expire", users, at, because)
		}}
	expire.Flags().StringSliceVar(&at, "at", nil, "only on these targets")
	reasonFlag(expire, &because)
	c.AddCommand(try, expire)
	return c
}

func (a *app) handover() *cobra.Command {
	c := &cobra.Command{Use: "handover", Short: "Look at new credentials that wait for their people, and hand them over"}
	var user, batch, state string
	var before int64
	var size int
	list := &cobra.Command{Use: "list", Short: "List handovers, newest first", Args: cobra.NoArgs,
		Example: "  roost handover list --state waiting\n  roost handover list --batch spring-crew\n  roost handover list --user " +
			"marit.fell",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"size": {fmt.Sprint(size)}, "before": {fmt.Sprint(before)}}
			for key, value := range map[string]string{"user": user, "batch": batch, "state": state} {
				if value != "" {
					q.Set(key, value)
				}
			}
			var out life.Handovers
			if err := a.get(c.Context(), "/handovers", q, &out); err != nil {
				return err
			}
			t := table{head: []string{"NUMBER", "USER", "WHAT", "STATE", "ACCOUNTS", "BATCH", "MADE", "WAITS UNTIL", "BY", "WORDS"},
				right: []int{0}, empty: "Nothing was handed over yet."}
			for _, h := range out.Items {
				waits := ""
				if h.State == life.ToCollect {
					waits = clock(h.ExpiresAt)
				}
				t.rows = append(t.rows, []string{fmt.Sprint(h.ID), who(h.Name, h.User), h.What, mark(h.State), accountsOf(h), h.Batch,
					clock(&h.MadeAt), waits, h.Operator, handoverWords(h)})
			}
			if err := a.show(out.Items, t); err != nil {
				return err
			}
			if out.Next > 0 {
				a.tell("There are more: --before %d", out.Next)
			}
			return nil
		}}
	list.Flags().StringVar(&user, "user", "", "only of one user")
	list.Flags().StringVar(&batch, "batch", "", "only of one batch")
	list.Flags().StringVar(&state, "state", "", "only made, waiting, collected, expired, withdrawn or \"not set\"")
	list.Flags().Int64Var(&before, "before", 0, "only those with a smaller number")
	list.Flags().IntVar(&size, "size", 100, "how many at most")
	c.AddCommand(list, a.handoverShow(), a.handoverLink(), a.handoverCollect(), a.handoverWithdraw(), a.handoverSeal(), a.handoverPrint())
	return c
}

// accountsOf says on how many accounts a handover's credential is.
func accountsOf(h life.Handover) string {
	n := 0
	for _, x := range h.Accounts {
		if x.State == "proved" || x.State == "set" {
			n++
		}
	}
	return fmt.Sprintf("%d of %d", n, len(h.Accounts))
}

func handoverWords(h life.Handover) string {
	var parts []string
	if h.EndedBy != "" {
		parts = append(parts, h.EndedBy)
	}
	if h.Tries > 0 {
		parts = append(parts, plural(h.Tries, "wrong code", "wrong codes"))
	}
	return strings.Join(parts, "; ")
}

func handoverPath(number, what string) string {
	return strings.TrimSuffix("/handovers/"+url.PathEscape(number)+"/"+what, "/")
}

func (a *app) handoverShow() *cobra.Command {
	return &cobra.Command{Use: "show NUMBER", Short: "Show where a handover's credential is set, and who has collected it",
		Args: cobra.ExactArgs(1), Example: "  roost handover show 1",
		RunE: func(c *cobra.Command, args []string) error {
			var h life.Handover
			if err := a.get(c.Context(), handoverPath(args[0], ""), nil, &h); err != nil {
				return err
			}
			t := table{head: []string{"TARGET", "ACCOUNT", "STATE", "ROUND", "SINCE", "WORDS"}, right: []int{3},
				about: strings.TrimSuffix(fmt.Sprintf("The %s of %s is %s; %s", h.What, who(h.Name, h.User), h.State, handoverWords(h)),
					"; ") + ".",
				empty: "It is on no account yet."}
			for _, x := range h.Accounts {
				t.rows = append(t.rows, []string{x.Target, x.Name, mark(x.State), figure(int(x.Round)), clock(x.At), x.Words})
			}
			return a.show(h, t)
		}}
}

func (a *app) handoverLink() *cobra.Command {
	return &cobra.Command{Use: "link NUMBER", Short: "Make a new link and code to a handover, in place of those before",
		Args:    cobra.ExactArgs(1),
		Example: "  roost handover link 1",
		RunE: func(c *cobra.Command, args []string) error {
			var out life.Linked
			if err := a.send(c.Context(), http.MethodPost, handoverPath(args[0], "link"), nil, &out); err != nil {
				return err
			}
			if !a.forPeople() {
				return a.show(out, table{})
			}
			return a.showLinks([]life.Linked{out})
		}}
}

func (a *app) handoverCollect() *cobra.Command {
	return &cobra.Command{Use: "collect NUMBER", Short: "Show what is in a handover to you, once; the record names you",
		Args:    cobra.ExactArgs(1),
		Example: "  roost handover collect 1",
		RunE: func(c *cobra.Command, args []string) error {
			var out life.Shown
			if err := a.send(c.Context(), http.MethodPost, handoverPath(args[0], "show"), nil, &out); err != nil {
				return err
			}
			return a.show(out, table{bare: fmt.Sprintf("The %s of %s, shown this once: %s", out.What, who(out.Name, out.User), out.Value)})
		}}
}

func (a *app) handoverWithdraw() *cobra.Command {
	var because string
	c := &cobra.Command{Use: "withdraw NUMBER", Short: "Withdraw a handover: nobody can collect it any more", Args: cobra.ExactArgs(1),
		Long:    "Withdraw a handover. The password itself stays on the accounts, and nobody knows it: roost rotate makes a new one.",
		Example: "  roost handover withdraw 1 --because \"sent to the wrong address\"",
		RunE: func(c *cobra.Command, args []string) error {
			var h life.Handover
			if err := a.send(c.Context(), http.MethodPost, handoverPath(args[0], "withdraw"), map[string]any{"because": because},
				&h); err != nil {
				return err
			}
			return a.show(h, table{bare: fmt.Sprintf("Handover %d of %s is withdrawn.", h.ID, who(h.Name, h.User))})
		}}
	reasonFlag(c, &because)
	return c
}

func (a *app) handoverSeal() *cobra.Command {
	var to []string
	var into string
	var again int64
	c := &cobra.Command{Use: "seal [BATCH]", Short: "Seal all handovers of a batch into one file that only its recipients can open",
		Args: cobra.MaximumNArgs(1),
		Long: `Seal all handovers of a batch that wait into one file, for recipients by their public keys of age or SSH.
They count as collected. The service keeps the file, which it cannot open itself: --again fetches it once
more by its number.`,
		Example: "  roost handover seal spring-crew --to age1ql3z7hjy54pw3hyww5ayyfg7zqgvc7w3j2elw8zmrj2kg5sfn9aqmcac8p --into " +
			"spring-crew.age\n" +
			"  roost handover seal --again 1 --into spring-crew.age",
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) == 1) == (again > 0) {
				return wrong{errors.New("name a batch, or a file to fetch again with --again")}
			}
			if into == "" {
				return wrong{errors.New("say where the file goes: --into FILE")}
			}
			f, err := os.OpenFile(into, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600) // before anything counts as collected
			if err != nil {
				return err
			}
			defer f.Close()
			var out life.BatchFile
			if again > 0 {
				err = a.get(c.Context(), fmt.Sprintf("/handovers/files/%d", again), nil, &out)
			} else {
				err = a.send(c.Context(), http.MethodPost, "/handovers/files", map[string]any{"batch": args[0], "to": to}, &out)
			}
			if err != nil {
				os.Remove(into)
				return err
			}
			if _, err := f.WriteString(out.Text); err != nil {
				return fmt.Errorf("%w; the service keeps it: roost handover seal --again %d", err, out.ID)
			}
			if err := f.Close(); err != nil {
				return err
			}
			a.tell("The passwords of %s are sealed in %s (file %d).", plural(out.People, "person", "people"), into, out.ID)
			return nil
		}}
	c.Flags().StringArrayVar(&to, "to", nil, "public key of a recipient: age1…, or ssh-ed25519 …")
	c.Flags().StringVar(&into, "into", "", "file to write; one that is there is not overwritten")
	c.Flags().Int64Var(&again, "again", 0, "number of a file that was sealed before")
	return c
}

func (a *app) handoverPrint() *cobra.Command {
	var into string
	c := &cobra.Command{Use: "print BATCH", Short: "Write a page with a sheet for each person of a batch, to be printed",
		Args: cobra.ExactArgs(1),
		Long: `Write a page with a sheet for each person of a batch whose password waits. A browser prints each on paper of
its own. They count as collected, by you; the file holds passwords, so remove it when they are printed.`,
		Example: "  roost handover print spring-crew --into spring-crew.html",
		RunE: func(c *cobra.Command, args []string) error {
			if into == "" {
				return wrong{errors.New("say where the page goes: --into FILE")}
			}
			f, err := os.OpenFile(into, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return err
			}
			defer f.Close()
			var out api.ShownList
			if err := a.send(c.Context(), http.MethodPost, "/handovers/sheets", map[string]any{"batch": args[0]}, &out); err != nil {
				os.Remove(into)
				return err
			}
			if err := sheets.Execute(f, out.Items); err != nil {
				return err
			}
			a.tell("%s written into %s. Print it, then remove it.", plural(len(out.Items), "sheet", "sheets"), into)
			return f.Close()
		}}
	c.Flags().StringVar(&into, "into", "", "file to write; one that is there is not overwritten")
	return c
}
