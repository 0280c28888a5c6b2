package seen

import (
	"context"
	"fmt"
	"slices"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
)

// SignIn is which account a target takes somebody for who signs in from an address.
type SignIn struct {
	From    string `json:"from"`
	Account string `json:"account,omitempty" doc:"that answers; left out when none does"`
	Words   string `json:"words"`
}

// signIn tells which account answers when a user signs in to a target from an address, as it was last seen.
func (s *Seen) signIn(ctx context.Context, m moment, x Explanation, from string) (*SignIn, error) {
	if m.past {
		return nil, door.Wrong("address", "which account answers is known of now alone; leave the day out")
	}
	d := m.Plan.Targets[x.Target]
	k := d.Schema.Account()
	answers := s.Kinds().Knows(d.Target.Kind).Answers
	if answers == nil {
		return nil, door.Wrong("address", "on a target of kind %s a login is one account, wherever it comes from", d.Target.Kind)
	}
	logins := []string{}
	for _, n := range append(x.Others, x.Account) {
		if login, _ := k.Login(n); login != "" {
			logins = append(logins, login)
		}
	}
	if len(logins) == 0 {
		logins = append(logins, x.User)
	}
	slices.Sort(logins)
	var names []string
	shut := map[string]bool{}
	for _, login := range append(slices.Compact(logins), "") {
		list, _, _, err := s.Store.ObservedPage(ctx, x.Target, model.Account, k.Compose(login, ""), "", "", door.PageMost)
		if err != nil {
			return nil, err
		}
		for _, o := range list {
			names = append(names, o.Name)
			shut[o.Name] = o.Attributes.One(model.Disabled) == "yes"
		}
	}
	out := &SignIn{From: from}
	out.Account = answers(names, logins[0], from)
	switch login, _ := k.Login(out.Account); {
	case out.Account == "":
		out.Words = fmt.Sprintf("no account lets %s in from there", logins[0])
	case login == "":
		out.Words = "that account is nobody's: it answers to any name, and in the place of theirs"
	case shut[out.Account]:
		out.Words = "that account is shut, so they are not let in"
	case out.Account == x.Account || slices.Contains(x.Others, out.Account):
		out.Words = "that account is theirs"
	default:
		out.Words = "nothing declares that account, though it has their login"
	}
	return out, nil
}
