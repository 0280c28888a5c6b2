package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"hen-roost/internal/core/chain"
	"hen-roost/internal/service/door"
)

func (a *app) record() *cobra.Command {
	var f struct {
		kind, operator, target, user, text string
		round, before                      int64
		size                               int
	}
	var verify, every bool
	c := &cobra.Command{Use: "record [ENTRY | FILE]", Short: "Read the team record, check its chain", Args: cobra.MaximumNArgs(1),
		Long: `Read the team record: who did what, where, when, why, and whether it held. The
newest entries stand last. Each entry is chained to the one before by SHA-256, and heads of the chain are
signed in checkpoints. --verify walks the chain, holds it against the checkpoints that the service keeps, and
names the first entry that does not hold (exit status 1); rows that no service wrote are counted (exit status 5). Entries that lie far back were checked when they were
sealed, and count as long as they are as they were then; with --every they are walked through,
	too. With a FILE that roost record export wrote it does
so without any service. What was the head when this machine looked last is remembered: a record that has gone
back since, or is another, is told.`,
		Example: `  roost record
  roost record --user marit.fell --kind step
  roost record 12
  roost record comment 12 "agreed with the captain"
  roost record --find spring --before 2000
  roost record --verify
  roost record --verify record.jsonl`,
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case verify && len(args) == 1:
				return a.verifyFile(args[0])
			case verify:
				return a.verifyRecord(c, every)
			case len(args) == 1:
				return a.showEntry(c, args[0])
			}
			q := map[string][]string{"kind": {f.kind}, "operator": {f.operator}, "target": {f.target}, "user": {f.user}, "text": {f.text},
				"size": {fmt.Sprint(f.size)}}
			if f.round > 0 {
				q["round"] = []string{fmt.Sprint(f.round)}
			}
			if f.before > 0 {
				q["before"] = []string{fmt.Sprint(f.before)}
			}
			var out door.RecordPage
			if err := a.get(c.Context(), "/record", q, &out); err != nil {
				return err
			}
			if err := a.remember(c.Context()); err != nil {
				return err
			}
			slices.Reverse(out.Items)
			if err := a.show(out.Items, entries(out.Items, a.forPeople())); err != nil {
				return err
			}
			if out.Next > 0 {
				a.tell("\nThere may be older ones: --before %d, or more at once with --size.", out.Next)
			}
			return nil
		}}
	fl := c.Flags()
	fl.StringVar(&f.kind, "kind", "", "only of this kind: sign-in, revision, survey, drift, round, step, key, secret, operator, comment, "+
		"intrusion")
	fl.StringVar(&f.operator, "operator", "", "only by this operator")
	fl.StringVar(&f.target, "target", "", "only about this target")
	fl.StringVar(&f.user, "user", "", "only about this user")
	fl.StringVar(&f.text, "find", "", "only with this in the words or the reason")
	fl.Int64Var(&f.round, "round", 0, "only of this round")
	fl.IntVar(&f.size, "size", 40, "how many at most")
	fl.Int64Var(&f.before, "before", 0, "only older than this entry")
	fl.BoolVar(&every, "every", false, "with --verify: walk through every entry, also where they were sealed")
	fl.BoolVar(&verify, "verify", false, "check the chain from end to end, here or in a FILE")
	c.AddCommand(a.recordExport(), a.checkpoint(), &cobra.Command{Use: "comment ENTRY TEXT", Short: "Add a comment to an entry",
		Args: cobra.ExactArgs(2), Example: `  roost record comment 12 "agreed with the captain"`,
		RunE: func(c *cobra.Command, args []string) error {
			seq, err := entryNumber(args[0])
			if err != nil {
				return err
			}
			var e door.Entry
			if err := a.send(c.Context(), http.MethodPost, fmt.Sprintf("/record/%d/comments", seq), map[string]string{"text": args[1]},
				&e); err != nil {
				return err
			}
			return a.show(e, table{head: []string{"entry"}, rows: [][]string{{fmt.Sprint(e.Seq)}},
				bare: fmt.Sprintf("Comment is entry %d.", e.Seq)})
		}})
	return c
}

func entryNumber(arg string) (int64, error) {
	n, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || n < 1 {
		return 0, wrong{fmt.Errorf("%q is not the number of an entry", arg)}
	}
	return n, nil
}

func entries(list []door.Entry, short bool) table {
	t := table{head: []string{"ENTRY", "WHEN", "OPERATOR", "KIND", "WHAT", "BECAUSE"}, right: []int{0}, empty: "No entries."}
	for _, e := range list {
		words := e.Words
		if e.Target != "" && (e.Kind == "step" || e.Kind == "survey") {
			words = e.Target + ": " + words
		}
		if e.About > 0 {
			words = fmt.Sprintf("on entry %d: %s", e.About, words)
		}
		if short {
			words = cut(words, 90)
		}
		t.rows = append(t.rows, []string{fmt.Sprint(e.Seq), clock(&e.At), e.Operator, e.Kind, words, cut(e.Because, 40)})
	}
	return t
}

func (a *app) showEntry(c *cobra.Command, arg string) error {
	seq, err := entryNumber(arg)
	if err != nil {
		return err
	}
	var e door.Entry
	if err := a.get(c.Context(), fmt.Sprintf("/record/%d", seq), nil, &e); err != nil {
		return err
	}
	return a.show(e, entries(append([]door.Entry{e}, e.Comments...), false))
}

func (a *app) verifyRecord(c *cobra.Command, every bool) error {
	var v door.Verified
	if err := a.get(c.Context(), "/record-check", map[string][]string{"every": {fmt.Sprint(every)}}, &v); err != nil {
		return err
	}
	words := v.Words
	if v.Head != nil {
		words += fmt.Sprintf(".\nHead: entry %d, %x\nSigned at %s with the key %s:\n%s", v.Head.Seq, v.Head.Hash, clock(&v.Head.At),
			v.Print, base64.StdEncoding.EncodeToString(v.Head.Signature))
	}
	if err := a.show(v, table{bare: words}); err != nil {
		return err
	}
	switch {
	case !v.Holds:
		return exit{exitFailed}
	case v.Behind > 0:
		return errors.Join(a.remember(c.Context()), exit{exitStray})
	}
	return a.remember(c.Context())
}

// verifyFile checks an export without any service.
func (a *app) verifyFile(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	v, err := chain.Verify(bufio.NewReaderSize(f, 1<<20), nil)
	var broken *chain.BrokenError
	out := door.Verified{Checked: v.Head.Seq, Checkpoints: v.Checkpoints, Head: v.Last}
	switch {
	case errors.As(err, &broken):
		out.Broken, out.Words = broken.Seq, fmt.Sprintf("the record is BROKEN: %s; %s before it hold", broken.Words,
			plural(int(v.Head.Seq), "entry", "entries"))
	case err != nil:
		return err
	case v.Last == nil || v.Last.Seq != v.Head.Seq:
		out.Words = fmt.Sprintf("%s follow from one another, but no checkpoint signs the last: the file was cut off, or is no export",
			plural(int(v.Head.Seq), "entry", "entries"))
	default:
		out.Holds, out.Print = true, v.Last.Print()
		out.Words = fmt.Sprintf("the record holds: %s, each following from the one before; the last was signed at %s with the key %s",
			plural(int(v.Head.Seq), "entry", "entries"), clock(&v.Last.At), out.Print)
	}
	if err := a.show(out, table{bare: out.Words}); err != nil || out.Holds {
		return err
	}
	return exit{exitFailed}
}

func (a *app) recordExport() *cobra.Command {
	var into string
	c := &cobra.Command{Use: "export", Short: "Write the whole record as lines of JSON, a checkpoint at its end", Args: cobra.NoArgs,
		Long: "Write the whole record as lines of JSON (JSON Lines), with a signed checkpoint at its end; roost record --verify FILE " +
			"checks it without any service.",
		Example: "  roost record export --save record.jsonl\n  roost record export > record.jsonl",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			if into == "" {
				return cl.Copy(c.Context(), "/record-export", a.file())
			}
			draft := into + ".new"
			f, err := os.OpenFile(draft, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
			if err != nil {
				return err
			}
			if err = errors.Join(cl.Copy(c.Context(), "/record-export", f), f.Close()); err != nil {
				return errors.Join(err, os.Remove(draft))
			}
			if err := os.Rename(draft, into); err != nil {
				return err
			}
			a.tell("The record is written into %s. Check it with: roost record --verify %s", into, into)
			return nil
		}}
	c.Flags().StringVar(&into, "save", "", "file to write; left out: standard output")
	return c
}

func (a *app) checkpoint() *cobra.Command {
	var into, check string
	c := &cobra.Command{Use: "checkpoint", Short: "Sign the record's head, or hold the record against heads signed before",
		Args: cobra.NoArgs,
		Long: `Sign the record's head now. The service keeps each checkpoint beside its key and writes it to its log; --save
adds it to a file of your own, for a place where the database's owner has no hand. --check holds the record
against all checkpoints of such a file: what was cut off since, or written anew, shows.`,
		Example: "  roost record checkpoint\n  roost record checkpoint --save checkpoints.jsonl\n  roost record checkpoint --check " +
			"checkpoints.jsonl",
		RunE: func(c *cobra.Command, _ []string) error {
			if check != "" {
				return a.checkAgainst(c.Context(), check)
			}
			var p chain.Checkpoint
			if err := a.send(c.Context(), http.MethodPost, "/record-checkpoint", nil, &p); err != nil {
				return err
			}
			if into != "" {
				b, err := json.Marshal(p)
				if err != nil {
					return err
				}
				f, err := os.OpenFile(into, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
				if err != nil {
					return err
				}
				_, err = f.Write(append(b, '\n'))
				if err := errors.Join(err, f.Close()); err != nil {
					return err
				}
			}
			return a.show(p, table{bare: fmt.Sprintf("Entry %d is signed, with the key %s.", p.Seq, p.Print())})
		}}
	c.Flags().StringVar(&into, "save", "", "file to add it to")
	c.Flags().StringVar(&check, "check", "", "file of checkpoints to hold the record against")
	return c
}

// checkAgainst holds the record against the checkpoints of a file.
func (a *app) checkAgainst(ctx context.Context, name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	n := 0
	sc := bufio.NewScanner(f)
	for sc.Scan() {
		var p chain.Checkpoint
		if err := json.Unmarshal(sc.Bytes(), &p); err != nil || !p.Signed() {
			return fmt.Errorf("%s, line %d: is no checkpoint that carries the signature it should", name, n+1)
		}
		if err := a.against(ctx, p.Seq, p.Hash, p.Key, clock(&p.At)); err != nil {
			return err
		}
		n++
	}
	if err := sc.Err(); err != nil {
		return err
	}
	words := fmt.Sprintf("The record holds against %s.", plural(n, "checkpoint", "checkpoints"))
	return a.show(map[string]int{"checkpoints": n}, table{bare: words})
}

// against asks whether the record still holds an entry as it was.
func (a *app) against(ctx context.Context, seq int64, hash, key []byte, when string) error {
	var head door.RecordHead
	if err := a.get(ctx, "/record-head", map[string][]string{"at": {fmt.Sprint(seq)}}, &head); err != nil {
		return err
	}
	switch {
	case !head.Signed():
		return errors.New("the service shows a head of the record that does not carry the signature it should")
	case !bytes.Equal(head.Key, key):
		return fmt.Errorf("the record is signed with another key than at %s: %s", when, head.Print)
	case head.Seq < seq:
		return fmt.Errorf("THE RECORD HAS GONE BACK: it ends with entry %d, and held entry %d at %s", head.Seq, seq, when)
	case !bytes.Equal(head.Then, hash):
		return fmt.Errorf("THE RECORD IS ANOTHER: entry %d is not the one that it held at %s", seq, when)
	}
	return nil
}

// looked is what this machine remembers of a record.
type looked struct {
	Seq  int64     `json:"seq"`
	Hash []byte    `json:"hash"`
	Key  []byte    `json:"key"`
	At   time.Time `json:"at"`
}

// remember holds the record against the head that this machine saw last, and remembers the head it sees now.
func (a *app) remember(ctx context.Context) error {
	file, err := a.profileFile()
	if err != nil {
		return nil // signed in by the environment: there is no place to remember anything
	}
	cl, err := a.client()
	if err != nil {
		return err
	}
	file = filepath.Join(filepath.Dir(file), "record-seen.json")
	seen := map[string]looked{}
	if b, err := os.ReadFile(file); err == nil {
		if err := json.Unmarshal(b, &seen); err != nil {
			a.tell("%s cannot be read, so that nothing is remembered of the record: %v", file, err)
			seen = map[string]looked{}
		}
	}
	if was, ok := seen[cl.Server]; ok {
		if err := a.against(ctx, was.Seq, was.Hash, was.Key, clock(&was.At)); err != nil {
			return fmt.Errorf("%w. If that is as it should be, after the service was set up anew, remove %s", err, file)
		}
	}
	var head door.RecordHead
	if err := a.get(ctx, "/record-head", nil, &head); err != nil {
		return err
	}
	if head.Seq == 0 {
		return nil
	}
	seen[cl.Server] = looked{head.Seq, head.Hash, head.Key, head.At}
	b, err := json.MarshalIndent(seen, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", append(b, '\n'), 0o600); err != nil {
		return nil // a folder that cannot be written keeps nobody from reading the record
	}
	return os.Rename(file+".new", file)
}
