package seen

import (
	"context"
	"net"
	"slices"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/door"
)

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
	out.Lines, err = connect.MakeLogin(s.Kinds()[d.Target.Kind], d.Login, out.From, slices.Compact(permissions))
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
