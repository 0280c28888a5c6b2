package host

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
)

// ageOf reads what shadow(5) keeps beside the password: changed:least:most:warning:inactive:expiry, in days.
func ageOf(line string) []model.Attribute {
	f := strings.SplitN(line, ":", 6)
	if len(f) != 6 {
		return nil
	}
	out := []model.Attribute{{Name: least, Values: []string{days("0")(f[1])}}, {Name: most, Values: []string{days("never")(f[2])}},
		{Name: warning, Values: []string{days("0")(f[3])}}, {Name: inactive, Values: []string{days("never")(f[4])}}}
	if f[5] != shutSince { // which says that it is shut, and nothing of a day
		out = append(out, model.Attribute{Name: expires, Values: []string{dayOf(f[5], "never")}})
	}
	if day := dayOf(f[0], ""); day != "" && f[0] != "0" {
		out = append(out, model.Attribute{Name: changed, Values: []string{day}})
		if ends := connect.ShadowEnds(f[0], f[2]); ends != "" {
			out = append(out, model.Attribute{Name: model.PasswordEnds, Values: []string{ends}})
		}
	}
	return out
}

// shutSince is the day of expiry of accounts that are shut.
const shutSince = "1"

// dayOf is a day that is counted from the first one of 1970.
func dayOf(number, otherwise string) string {
	n, err := strconv.Atoi(number)
	if err != nil || n < 0 || n > 2_000_000 {
		return otherwise
	}
	return time.Unix(int64(n)*86400, 0).UTC().Format(time.DateOnly)
}

// numberOf counts a day from the first one of 1970; "" is never.
func numberOf(day string) string {
	at, err := time.Parse(time.DateOnly, day)
	if err != nil {
		return ""
	}
	return strconv.FormatInt(at.Unix()/86400, 10)
}

// failedLeast is how many sign-ins in vain are told of: who mistypes a password is no news.
const failedLeast = 10

// about is a number with all digits but the first taken for noughts: what grows from one survey to the next is not told
// as a change each time.
func about(n int) string {
	s := strconv.Itoa(n)
	return s[:1] + strings.Repeat("0", len(s)-1)
}

// roughly is a number to two digits.
func roughly(n int64) string {
	s := strconv.FormatInt(n, 10)
	if len(s) < 3 {
		return s
	}
	return s[:2] + strings.Repeat("0", len(s)-2)
}

// elsewhere reads an account that a directory has, name:uid:home:shell:full name: it is seen, and never touched.
func (r *reading) elsewhere(line string, g *gathered) error {
	f := strings.SplitN(line, ":", 5)
	if len(f) != 5 {
		return fmt.Errorf("the host sent an account line that cannot be read: %q", connect.Printable(line))
	}
	if len(g.others) >= maxObjects {
		return errTooMany
	}
	list := []model.Attribute{{Name: model.KeptBy, Values: []string{"a directory that the host asks"}}}
	for i, attribute := range []string{model.Number, home, shell, model.FullName} {
		if v := connect.Printable(f[i+1]); v != "" {
			list = append(list, model.Attribute{Name: attribute, Values: []string{v}})
		}
	}
	g.others = append(g.others, model.Object{Kind: model.Account, Name: name(f[0]), System: true, Attributes: model.Pack(list...)})
	return nil
}

// home reads a folder, uid:bytes:last use:in use:account:folder.
func (r *reading) home(line string) error {
	f := strings.SplitN(line, ":", 6)
	if len(f) != 6 {
		return fmt.Errorf("the host sent a home that cannot be read: %q", connect.Printable(line))
	}
	if len(r.homes) >= maxObjects {
		return errTooMany
	}
	o := &model.Object{Kind: model.HomeKind, Name: name(f[5])}
	list := []model.Attribute{{Name: model.Number, Values: []string{connect.Printable(f[0])}}}
	if n, err := strconv.ParseInt(f[1], 10, 64); err == nil && n >= 0 {
		list = append(list, model.Attribute{Name: model.Size, Values: []string{roughly(n)}})
	}
	if n, err := strconv.ParseFloat(f[2], 64); err == nil && n > 0 {
		list = append(list, model.Attribute{Name: model.LastUse, Values: []string{time.Unix(int64(n), 0).UTC().Format(time.DateOnly)}})
	}
	if f[3] == "1" {
		list = append(list, model.Attribute{Name: model.InUse, Values: []string{"yes"}})
	}
	if f[4] != "" {
		list = append(list, model.Attribute{Name: model.HeldBy, Values: []string{name(f[4])}})
	}
	o.Attributes = model.Pack(list...)
	o.System = f[0] == "0"
	if n := name(f[5]); n != f[5] {
		mark(o, "its name cannot be handed to the host's tools, so Hen Roost does not touch it")
	}
	r.homes[o.Name] = o
	return nil
}

// folders are the homes, with the last sign-in of whose they are for their last use where that is later.
func (r *reading) folders() []model.Object {
	out := make([]model.Object, 0, len(r.homes))
	for _, name := range slices.Sorted(maps.Keys(r.homes)) {
		out = append(out, *r.folder(name))
	}
	return out
}

// folder is one of them, nil when it is not there.
func (r *reading) folder(name string) *model.Object {
	o := r.homes[name]
	if o == nil {
		return nil
	}
	if day := r.seen[o.Attributes.One(model.HeldBy)]; day > o.Attributes.One(model.LastUse) {
		o.Attributes = o.Attributes.With(model.LastUse, day)
	}
	return o
}
