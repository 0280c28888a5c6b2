package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
)

// Roost carries out one command line of roost and returns its exit status.
type Roost func(ctx context.Context, args ...string) int

// stage is one command of the story, and the exit status that it must have.
type stage struct {
	say  string
	args []string
	exit int
}

// Prepare brings the demo to where a person takes over: declared, keys
// accepted, surveyed.
func (d *Demo) Prepare(ctx context.Context, roost Roost) error {
	return d.tell(ctx, io.Discard, roost, d.opening())
}

func (d *Demo) opening() []stage {
	return []stage{
		{"The company's declaration becomes the first revision.",
			[]string{"declare", d.Declaration, "--yes", "--because", "take over what was done by hand"}, 0},
		{"What says where secrets go takes a second operator. There is none yet, so the first gives the password anew.",
			[]string{"revision", "approve", "--yes", "--password-file", d.passwordFile(), "--because", "the first declaration"}, 0},
		{"No target's identity key has been accepted yet, so none is signed in to.", []string{"survey"}, 1},
		{"The keys are compared with those on the targets, and accepted once.", []string{"target", "accept-key", "--all-new"}, 0},
		{"Now every target is read.", []string{"survey"}, 0},
	}
}

// Once tells the whole story: everything that is done by hand is put right and
// stays so. It returns an error naming the first stage that did not hold.
func (d *Demo) Once(ctx context.Context, out io.Writer, roost Roost) error {
	story := append(d.opening(),
		stage{"What differs from the declaration?", []string{"drift"}, 3},
		stage{"Draft a round from all that can be put right.", []string{"draft", "--because", "take over what was done by hand"}, 0},
		stage{"Look, then approve.", []string{"approve", "1"}, 0},
		stage{"Run it: each step is read again, changed, read back.", []string{"run", "1"}, 0},
		stage{"One person's account could not be told; that is for a person to decide.", []string{"drift"}, 3},
	)
	if err := d.tell(ctx, out, roost, story); err != nil {
		return err
	}
	if err := d.decide(); err != nil {
		return err
	}
	if err := d.tell(ctx, out, roost, []stage{
		{"Decided in deck.yaml: Kari Berg's account on sooty-tern is kberg. Declare it.",
			[]string{"declare", d.Declaration, "--yes", "--because", "kberg is Kari Berg, says the bosun"}, 0},
		{"Survey, draft, run and verify in one.", []string{"reconcile", "--because", "settle Kari Berg's account"}, 0},
		{"A second run finds nothing to do.", []string{"reconcile", "--because", "nothing should be left"}, 0},
		{"Is there any drift left?", []string{"drift"}, 0},
		{"One person, side by side.", []string{"user", "show", "marit.fell"}, 0},
	}); err != nil {
		return err
	}
	if err := d.daily(ctx, out, roost); err != nil {
		return err
	}
	return d.tell(ctx, out, roost, []stage{{"Everything is in the record, and the record's chain holds.", []string{"record",
		"--verify"}, 0}})
}

// daily tells of what happens on other days: people come, forget, move, and lose things.
func (d *Demo) daily(ctx context.Context, out io.Writer, roost Roost) error {
	office, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	vessel := d.Hosts["little-tern"]
	if err := d.tell(ctx, out, roost, []stage{
		{"Spring crew joins by the crewing office's table; one line of it cannot be.", []string{"join", "--from-csv",
			filepath.Join(d.dir, "crew.csv"), "--batch", "spring-crew", "--because", "spring crew", "--yes"}, 4},
		{"Their passwords go into one file that the crewing office alone can open.", []string{"handover", "seal", "spring-crew", "--to",
			office.Recipient().String(), "--save", filepath.Join(d.dir, "spring-crew.age")}, 0},
		{"A clerk has forgotten her password, and telephones.", []string{"rotate", "helene.roux", "--aloud", "--show", "--because",
			"forgot it, telephoned"}, 0},
		{"A mate moves ashore.", []string{"move", "jens-ole.krag", "--to", "harbour-hand", "--because", "moves ashore", "--yes"}, 0},
	}); err != nil {
		return err
	}
	if err := vessel.Away(true); err != nil {
		return err
	}
	err = d.tell(ctx, out, roost, []stage{{"A bosun's laptop is lost, while Little Tern is at sea and out of reach.",
		[]string{"suspend", "bjorn.aasen", "--because", "laptop lost"}, 4}})
	if err = errors.Join(err, vessel.Away(false)); err != nil {
		return err
	}
	// It is tried again and again by itself; the story waits for it.
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(time.Second) {
		if roost(ctx, "survey", "little-tern") == 0 {
			break
		}
	}
	time.Sleep(2 * time.Second)
	return d.tell(ctx, out, roost, []stage{
		{"Little Tern is back, and he is shut out there too.", []string{"suspend", "bjorn.aasen", "--because", "laptop lost"}, 0},
		{"The laptop is found.", []string{"restore", "bjorn.aasen", "--because", "laptop found"}, 0},
	})
}

// decide writes down the decision that the matching left to a person.
func (d *Demo) decide() error {
	file := filepath.Join(d.Declaration, "deck.yaml")
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	const before = "    number: 1010\n"
	if !strings.Contains(string(b), before) {
		return fmt.Errorf("%s: no user with number 1010", file)
	}
	text := strings.Replace(string(b), before, before+"    accounts: {sooty-tern: {name: kberg}}\n", 1)
	return os.WriteFile(file, []byte(text), 0o644)
}

func (d *Demo) tell(ctx context.Context, out io.Writer, roost Roost, story []stage) error {
	for _, s := range story {
		fmt.Fprintf(out, "\n# %s\n$ roost %s\n", s.say, d.typed(s.args))
		if got := roost(ctx, s.args...); got != s.exit {
			return fmt.Errorf("this stage did not hold: roost %s ended with %d instead of %d", d.typed(s.args), got, s.exit)
		}
	}
	return nil
}

// typed is a command as a person would type it.
func (d *Demo) typed(args []string) string {
	words := make([]string, len(args))
	for i, a := range args {
		words[i] = strings.Replace(a, d.dir+"/", "", 1)
		if strings.ContainsAny(a, " ,") {
			words[i] = `"` + a + `"`
		}
	}
	return strings.Join(words, " ")
}
