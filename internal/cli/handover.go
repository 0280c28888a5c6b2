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
)

// settleFor is how long accounts that a round has left are waited for, which are signed in to when it has ended.
const settleFor = time.Minute

// awaitHandovers waits until each that a round sets can be collected, or was taken
// by no account. Those of people who begin later wait for their day.
func (a *app) awaitHandovers(ctx context.Context, list []life.Handover) error {
	end := time.Now().Add(settleFor)
	for pause := 100 * time.Millisecond; ; pause = min(pause*5/4, time.Second) {
		if err := a.refresh(ctx, list); err != nil {
			return err
		}
		made := slices.ContainsFunc(list, func(h life.Handover) bool { return h.State == life.Made && len(h.Accounts) > 0 })
		waits := slices.ContainsFunc(list, func(h life.Handover) bool { // a key is there to collect once some account lets it in
			return slices.ContainsFunc(h.Accounts, func(x life.HandoverAccount) bool { return x.State == "waiting" })
		})
		if !made && (!waits || time.Now().After(end)) {
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
	var into string
	c := &cobra.Command{Use: "collect NUMBER", Short: "Show what is in a handover to you, once; the record names you",
		Args:    cobra.ExactArgs(1),
		Example: "  roost handover collect 1\n  roost handover collect 2 --save marit.key",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := a.collected(c.Context(), handoverPath(args[0], "show"), into)
			if err != nil || into != "" || a.forPeople() {
				return err
			}
			return a.show(out, table{})
		}}
	saveFlag(c, &into)
	return c
}

func saveFlag(c *cobra.Command, into *string) {
	c.Flags().StringVar(into, "save", "", "write it to a new file that only you can read, in place of showing it")
}

// collected shows a credential to a person, one of several lines on lines of its own, or writes it to a new file, which is there
// before the credential is asked for: it can be had once.
func (a *app) collected(ctx context.Context, path, into string) (out life.Shown, err error) {
	var file *os.File
	if into != "" {
		if file, err = os.OpenFile(into, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600); err != nil {
			return out, err
		}
	}
	if err := a.send(ctx, http.MethodPost, path, nil, &out); err != nil {
		if file != nil {
			err = errors.Join(err, file.Close(), os.Remove(into))
		}
		return out, err
	}
	words, value := fmt.Sprintf("The %s of %s", out.What, who(out.Name, out.User)), strings.TrimRight(out.Value, "\n")
	switch {
	case file != nil:
		_, err = fmt.Fprintln(file, value)
		if err = errors.Join(err, file.Close()); err == nil {
			a.tell("%s is in %s.", words, into)
		}
	case !a.forPeople():
	case strings.Contains(value, "\n"):
		fmt.Fprintf(a.Out, "%s, shown this once:\n%s\n", words, value)
	default:
		fmt.Fprintf(a.Out, "%s, shown this once: %s\n", words, value)
	}
	return out, err
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
		Example: "  roost handover seal spring-crew --to age1ql3z7hjy54pw3hyww5ayyfg7zqgvc7w3j2elw8zmrj2kg5sfn9aqmcac8p --save " +
			"spring-crew.age\n" +
			"  roost handover seal --again 1 --save spring-crew.age",
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) == 1) == (again > 0) {
				return wrong{errors.New("name a batch, or a file to fetch again with --again")}
			}
			if into == "" {
				return wrong{errors.New("say where the file goes: --save FILE")}
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
			a.moreOf(out.More)
			return nil
		}}
	c.Flags().StringArrayVar(&to, "to", nil, "public key of a recipient: age1…, or ssh-ed25519 …")
	c.Flags().StringVar(&into, "save", "", "file to write; one that is there is not overwritten")
	c.Flags().Int64Var(&again, "again", 0, "number of a file that was sealed before")
	return c
}

// moreOf says that a batch was larger than what is given out at once.
func (a *app) moreOf(more bool) {
	if more {
		a.tell("Others of the batch wait: the same again, into another file.")
	}
}

func (a *app) handoverPrint() *cobra.Command {
	var into string
	c := &cobra.Command{Use: "print BATCH", Short: "Write a page with a sheet for each person of a batch, to be printed",
		Args: cobra.ExactArgs(1),
		Long: `Write a page with a sheet for each person of a batch whose password waits. A browser prints each on paper of
its own. They count as collected, by you; the file holds passwords, so remove it when they are printed.`,
		Example: "  roost handover print spring-crew --save spring-crew.html",
		RunE: func(c *cobra.Command, args []string) error {
			if into == "" {
				return wrong{errors.New("say where the page goes: --save FILE")}
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
			a.moreOf(out.More)
			return f.Close()
		}}
	c.Flags().StringVar(&into, "save", "", "file to write; one that is there is not overwritten")
	return c
}
