package drift

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/core/model"
)

// clockMost is by how many seconds a target's clock may be wrong before that is a finding.
const clockMost = 60

// unused reports what nobody has used for long, accounts and homes, and a clock that is wrong.
func (c *comparer) unused() {
	if c.Reach != nil {
		return
	}
	t := c.Desired.Target
	if before := c.daysAgo(t.Dormant); before != "" {
		for i := range c.observed {
			c.dormant(i, before)
		}
	}
	if _, tells := c.Desired.Schema.Find(model.Account, model.PasswordEnds); tells {
		soon := c.daysAgo(-passwordsEndIn)
		for i := range c.observed {
			c.runningOut(i, soon)
		}
	}
	before := c.daysAgo(t.Homes.Stale)
	for i := range c.Others {
		switch o := &c.Others[i]; o.Kind {
		case model.HomeKind:
			if before != "" {
				c.stale(o, before)
			}
		case model.SystemKind:
			if off, err := strconv.Atoi(o.Attributes.One(model.ClockOff)); err == nil && (off > clockMost || off < -clockMost) {
				c.add(model.Finding{Kind: model.WrongClock, Act: model.Act{Object: o.Kind, Name: o.Name},
					Note: fmt.Sprintf("its clock is %s: expiry days and its own records are wrong by as much; set the clock there",
						model.ClockWords(off))})
			}
		}
	}
}

// passwordsEndIn is how long before its last day a password is told of.
const passwordsEndIn = 14 * 24 * time.Hour

// runningOut reports an open account whose password ends on a day before the given one.
func (c *comparer) runningOut(place int, soon string) {
	o := &c.observed[place]
	last := o.Attributes.One(model.PasswordEnds)
	if last == "" || last >= soon || o.Attributes.One(model.Disabled) == "yes" {
		return
	}
	if _, shut := c.covered(place); shut {
		return
	}
	note := "the last day of its password is " + last
	if last < c.Desired.Plan.Day {
		note = "its password ended on " + last + ", and it is not shut"
	}
	c.add(model.Finding{Kind: model.RunningOut, Act: model.Act{Object: o.Kind, Name: o.Name, User: c.userOf(place),
		Changes: []model.Change{{Attribute: model.PasswordEnds, Before: []string{last}}}}, Note: note})
}

// daysAgo is the day so long before the plan's; "" for no time at all.
func (c *comparer) daysAgo(d time.Duration) string {
	day, err := time.Parse(time.DateOnly, c.Desired.Plan.Day)
	if d == 0 || err != nil {
		return ""
	}
	return day.Add(-d).Format(time.DateOnly)
}

// dormant reports an open account that was signed in to before, but not since a day.
func (c *comparer) dormant(place int, before string) {
	o := &c.observed[place]
	last := o.Attributes.One(model.LastSignIn)
	if last == "" || last >= before || o.Attributes.One(model.Disabled) == "yes" {
		return
	}
	if _, shut := c.covered(place); shut {
		return
	}
	c.add(model.Finding{Kind: model.Dormant, Act: model.Act{Object: o.Kind, Name: o.Name, User: c.userOf(place)},
		Note: "nobody has signed in with it since " + last})
}

// stale proposes that a home goes that nobody has used since a day, unless it is to be left alone, or somebody works in it.
func (c *comparer) stale(o *model.Object, before string) {
	last, account := o.Attributes.One(model.LastUse), o.Attributes.One(model.HeldBy)
	if StandsStill(c.shield, o, before) != "" {
		return
	}
	how := c.Desired.Target.Removal.Home
	act := Clearing("", "", o, how)
	whose := "nobody has its number any more"
	if account != "" {
		whose = "it is the home of " + account
		if place, ok := c.find(account); ok {
			act.User = c.userOf(place)
		}
	}
	note := fmt.Sprintf("not used since %s; %s", last, whose)
	if how == model.HomeKept {
		act.Changes = nil
		act.Verb, note = model.NoRemedy, note+"; removal: {home: …} of the target says what becomes of such homes, archive or remove"
	}
	c.add(model.Finding{Kind: model.StaleHome, Act: act, Note: note})
}

// Clearing takes a home away, kept in an archive or for good, if it is still as it was seen.
func Clearing(target, user string, o *model.Object, how string) model.Act {
	act := model.Act{Target: target, User: user, Verb: model.Remove, Object: o.Kind, Name: o.Name}
	for _, attribute := range []string{model.Number, model.HeldBy, model.LastUse} {
		if v := o.Attributes.Get(attribute); v != nil {
			act.Changes = append(act.Changes, model.Change{Attribute: attribute, Before: v})
		}
	}
	act.Changes = append(act.Changes, model.Change{Attribute: model.Home, After: []string{how}})
	return act
}

// StandsStill says why a home stays, by what was seen of it and what the target's declaration says; "" that it may go.
// before is the first day on which use counts.
func StandsStill(s model.Shield, o *model.Object, before string) string {
	last, account := o.Attributes.One(model.LastUse), o.Attributes.One(model.HeldBy)
	for _, pattern := range s.Target.Homes.Leave {
		if s.Matches(pattern, o.Name) || account != "" && s.Matches(pattern, account) || s.Matches(pattern,
			o.Name[strings.LastIndex(o.Name, "/")+1:]) {
			return fmt.Sprintf("left alone by %q", pattern)
		}
	}
	if why, shut := s.Covers(o); shut {
		return why
	}
	if why, shut := s.Protects(account); shut {
		return account + " is " + why
	}
	switch {
	case o.System:
		return "the system's own"
	case o.Attributes.Has(model.InUse):
		return "somebody works in it now"
	case last == "":
		return "nobody knows when it was used last"
	case last >= before:
		return "used on " + last
	}
	return ""
}
