package seen

import (
	"context"
	"fmt"
	"net"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
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
	if d.Schema.Answers == nil {
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
	out.Account = d.Schema.Answers(names, logins[0], from)
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

// Origin is where some accounts may come from.
type Origin struct {
	Origin   string `json:"origin"`
	Accounts int    `json:"accounts"`
}

// TargetOrigins lists where the accounts of a target may come from, and how many each.
func (s *Seen) TargetOrigins(ctx context.Context, who door.Operator, target string) ([]Origin, error) {
	_, k, err := s.kindOn(ctx, who, target, model.Account.String())
	if err != nil {
		return nil, err
	}
	if len(k.Name) < 2 {
		return nil, &door.Problem{Kind: door.Unknown, Words: "on " + target + " a login is one account, wherever it comes from"}
	}
	list, err := s.Store.Origins(ctx, target, k.Joint, door.PageMost)
	out := make([]Origin, len(list))
	for i, x := range list {
		out[i] = Origin{x.Rest, x.N}
	}
	return out, err
}

// Needs is what makes a login for Hen Roost on a target.
type Needs struct {
	Target string   `json:"target"`
	As     string   `json:"as"`
	From   string   `json:"from"`
	Lines  []string `json:"lines" doc:"what an administrator there carries out once"`
}

// TargetNeeds tells what makes a login for Hen Roost on a target that may do what is declared there, and no more.
func (s *Seen) TargetNeeds(ctx context.Context, who door.Operator, target, from string) (Needs, error) {
	d, _, err := s.kindOn(ctx, who, target, model.Account.String())
	if err != nil {
		return Needs{}, err
	}
	var permissions []string
	for _, x := range d.Rights() {
		permissions = append(permissions, resolve.Permissions(d.Schema, x)...)
	}
	slices.Sort(permissions)
	out := Needs{Target: target, As: d.Login, From: from}
	if from == "" {
		if out.From, err = ownAddress(d.Address); err != nil {
			return Needs{}, door.Wrong("from", "from where %s is reached cannot be told (%v); say so", target, err)
		}
	}
	if net.ParseIP(out.From) == nil {
		return Needs{}, door.Wrong("from", "%q is no address", out.From)
	}
	out.Lines, err = connect.MakeLogin(s.Kinds[d.Target.Kind], d.Login, out.From, slices.Compact(permissions))
	if err != nil {
		return Needs{}, &door.Problem{Kind: door.Unknown, Words: err.Error()}
	}
	return out, nil
}

// ownAddress is the address from which another one is reached. Nothing is sent there.
func ownAddress(address string) (string, error) {
	c, err := net.Dial("udp", address)
	if err != nil {
		return "", err
	}
	defer c.Close()
	host, _, err := net.SplitHostPort(c.LocalAddr().String())
	return host, err
}
