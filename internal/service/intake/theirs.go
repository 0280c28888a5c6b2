package intake

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/exchange"
	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// A system ends nobody but whom it brought, or was given. What leaves by it is counted over a day, so that slices amount to what
// they are together.

// countedFor is over how long that is.
const countedFor = 24 * time.Hour

// Give gives declared users to a system: they may leave by what it says. None named gives all.
func (s *Intake) Give(ctx context.Context, who door.Operator, source string, users []string) (int, error) {
	if err := who.May(door.Draft); err != nil {
		return 0, err
	}
	if _, err := s.named(ctx, source); err != nil {
		return 0, err
	}
	c, err := s.Current(ctx)
	if err != nil {
		return 0, err
	}
	all := door.KeysOf(c.Declared.Users)
	what := strings.Join(users, ", ")
	if len(users) == 0 {
		users, what = all, "all users that are declared"
	}
	for _, u := range users {
		if c.Declared.Users[u] == nil {
			return 0, door.NotKnown("user", u, all)
		}
	}
	return len(users), s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		return []*store.Entry{{At: s.Now(), Kind: "intake", Operator: who.Name, Words: door.ClipTo(fmt.Sprintf("gave %s to %s, by "+
			"which they may leave: %s", door.Count(len(users), "user", "users"), source, what), 2000)}}, tx.GiveTo(ctx, source, users)
	})
}

// theirs leaves out of a proposal who would leave and is not the system's to end.
func (s *Intake) theirs(ctx context.Context, from Source, p *Proposal) error {
	given, err := s.Store.GivenTo(ctx, from.Name, p.Leaving)
	if err != nil {
		return err
	}
	p.NotTheirs = []string{}
	p.Leaving = slices.DeleteFunc(p.Leaving, func(u string) bool {
		if !given[u] {
			p.NotTheirs = append(p.NotTheirs, u)
		}
		return !given[u]
	})
	if len(p.NotTheirs) > 0 {
		p.Edits = slices.DeleteFunc(p.Edits, func(e declare.Edit) bool {
			return e.Key == "until" && e.Do == declare.Set && slices.Contains(p.NotTheirs, e.Name)
		})
	}
	return nil
}

// hold says why a proposal is not taken by itself: by it, and by what was taken in the last day, too many would leave.
func (s *Intake) hold(ctx context.Context, c *declared.Current, from Source, p *Proposal) error {
	if len(p.Leaving) == 0 {
		return nil
	}
	before, err := s.Store.LeftSince(ctx, from.Name, s.Now().Add(-countedFor))
	if err != nil {
		return err
	}
	n, all := len(p.Leaving)+before, len(c.Declared.Users)
	if n <= fewLeaving || n*100 <= all*from.Settings.share() {
		return nil
	}
	p.Held = fmt.Sprintf("%d of %d users would leave, which is more than %d %%", n, all, from.Settings.share())
	if before > 0 {
		p.Held += fmt.Sprintf(" (%d of them have left in the last 24 hours)", before)
	}
	return nil
}

// note keeps whom a proposal that is taken brings, and how many leave by it. It is kept before it is taken: what is counted and
// does not come to pass errs on the safe side.
func (s *Intake) note(ctx context.Context, source string, p Proposal) error {
	var brought []string
	for _, e := range p.Edits {
		if e.Section == "users" && e.Key == "" {
			brought = append(brought, e.Name)
		}
	}
	return s.Store.Tx(ctx, func(tx *store.Tx) error {
		if len(p.Leaving) > 0 {
			if err := tx.NoteLeft(ctx, source, s.Now(), len(p.Leaving)); err != nil {
				return err
			}
		}
		return tx.GiveTo(ctx, source, brought)
	})
}

// fieldMost bounds what a system says of one field of a person, in characters.
const fieldMost = 256

// bounded says what of a user is too long.
func bounded(u exchange.User) error {
	for field, text := range map[string]string{"userName": u.ID, "displayName": u.Name, "givenName": u.Given, "familyName": u.Family,
		"mail": u.Mail, "manager": u.Manager} {
		if len([]rune(text)) > fieldMost {
			return fmt.Errorf("its %s has more than %d characters", field, fieldMost)
		}
	}
	for field, text := range u.Details {
		if len([]rune(field)) > fieldMost || len([]rune(text)) > 4*fieldMost {
			return fmt.Errorf("its %s has more than %d characters", door.ClipTo(field, 40), 4*fieldMost)
		}
	}
	return nil
}

// reserved says why nobody new can have a name: on some target it is ours, protected, or the system's own.
func reserved(c *declared.Current) func(name string) string {
	seen := map[string]bool{}
	var shields []model.Shield
	for _, target := range door.KeysOf(c.Plan.Targets) {
		d := c.Plan.Targets[target]
		x := d.Shield()
		if key := fmt.Sprintf("%q %q %q %v", d.Login, d.Target.Protect, x.System, x.Fold); !seen[key] {
			seen[key] = true
			shields = append(shields, x)
		}
	}
	return func(name string) string {
		for _, x := range shields {
			if why, shut := x.Protects(name); shut {
				return fmt.Sprintf("nobody can be called so: on %s, %s", x.Target.Name, why)
			}
		}
		return ""
	}
}
