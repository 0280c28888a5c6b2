package host

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hen-roost/internal/core/model"
)

// power is what makes somebody superuser on a host: what sudo's files say, the
// groups that systems give it to, and the superuser's own number.
type power struct {
	accounts map[string]string // by name: through what
	groups   map[string]string
	ours     map[string][]string // by account: the ways that our own file gives
	beyond   map[string]bool     // netgroups and the like, whose members the host alone knows
	everyone bool
	aliases  map[string][]string
	subjects []string // of the rules, aliases not yet followed
}

// powerful are the groups whose members can become superuser on the systems we
// know, whatever sudo's files say.
// Some can because they read hashes, devices or memory, or run what is the superuser's.
var powerful = []string{"sudo", "wheel", "admin", "root", "disk", "docker", "lxd", "shadow", "kmem", "libvirt", "incus-admin"}

func newPower() *power {
	p := &power{accounts: map[string]string{}, groups: map[string]string{}, aliases: map[string][]string{},
		ours: map[string][]string{}, beyond: map[string]bool{}}
	for _, g := range powerful {
		p.groups[g] = ""
	}
	return p
}

var (
	comma   = regexp.MustCompile(`[ \t]*,[ \t]*`)
	another = regexp.MustCompile(`^(Defaults|(Runas|Host|Cmnd|Cmd)_Alias\b|[@#]include)`)
	runAs   = regexp.MustCompile(`\(([^):]*)[^)]*\)`)
)

// rule reads one line of sudoers, its continuations joined (sudoers(5)): who may
// do something as superuser. What only lets somebody become another does not count.
func (p *power) rule(line string) {
	line = comma.ReplaceAllString(strings.TrimSpace(line), ",")
	if at := strings.Index(line, " #"); at >= 0 && !strings.ContainsAny(line[at+2:min(at+3, len(line))], "0123456789") {
		line = line[:at]
	}
	if another.MatchString(line) || line == "" || line[0] == '#' && !(len(line) > 1 && line[1] >= '0' && line[1] <= '9') {
		return
	}
	if rest, ok := strings.CutPrefix(line, "User_Alias"); ok {
		for one := range strings.SplitSeq(rest, ":") {
			name, list, _ := strings.Cut(one, "=")
			p.aliases[strings.TrimSpace(name)] = append(p.aliases[strings.TrimSpace(name)], strings.Split(strings.TrimSpace(list), ",")...)
		}
		return
	}
	who, what, ok := strings.Cut(line, "=")
	if fields := strings.Fields(who); ok && len(fields) > 0 && asSuperuser(what) {
		p.subjects = append(p.subjects, strings.Split(fields[0], ",")...)
	}
}

// asSuperuser says whether the right side of a rule lets anybody be superuser.
func asSuperuser(what string) bool {
	if !strings.HasPrefix(strings.TrimSpace(what), "(") {
		return true
	}
	for _, m := range runAs.FindAllStringSubmatch(what, -1) {
		for as := range strings.SplitSeq(m[1], ",") {
			switch as = strings.TrimSpace(as); {
			case as == "" || as == "ALL" || as == "root" || as == "#0":
				return true
			case as == strings.ToUpper(as) && as[0] != '#' && as[0] != '%' && as[0] != '!': // an alias, which may hold anybody
				return true
			}
		}
	}
	return false
}

// doas reads a line of doas.conf(5): who may do something as superuser.
func (p *power) doas(line string) {
	f := strings.Fields(strings.SplitN(line, "#", 2)[0])
	if len(f) < 2 || f[0] != "permit" {
		return
	}
	who := ""
	for i, deep := 1, 0; i < len(f); i++ {
		deep += strings.Count(f[i], "{") - strings.Count(f[i], "}")
		switch {
		case deep > 0 || strings.Contains(f[i], "}"): // of setenv { … }
		case f[i] == "as" && i+1 < len(f) && f[i+1] != "root":
			return
		case f[i] == "as" || f[i] == "cmd":
			i = len(f)
		case f[i] == "nopass" || f[i] == "nolog" || f[i] == "persist" || f[i] == "keepenv" || f[i] == "setenv":
		case who == "":
			who = f[i]
		}
	}
	if group, isGroup := strings.CutPrefix(who, ":"); isGroup {
		p.groups[group] = "doas"
	} else if who != "" {
		p.accounts[who] = "doas"
	}
}

// su reads what PAM asks of who calls su: pam_wheel lets in the members of a group, or gives them the superuser's rights
// outright (pam_wheel(8)).
func (p *power) su(line string) {
	group := "wheel"
	for _, w := range strings.Fields(line) {
		if w == "deny" {
			return
		}
		if g, ok := strings.CutPrefix(w, "group="); ok {
			group = g
		}
	}
	p.groups[group] = "su"
}

// settle follows aliases and numbers, once all has been read. numbers are those
// of groups that a reading of some names tells of beside.
func (p *power) settle(r *reading, numbers map[string]string) {
	byNumber := func(list []model.Object, number string) (names []string) {
		for _, o := range list {
			if o.Attributes.One(model.Number) == number {
				names = append(names, o.Name)
			}
		}
		return names
	}
	seen := map[string]bool{}
	var add func(subject string)
	add = func(subject string) {
		subject = strings.Trim(subject, `"`)
		if subject == "" || seen[subject] || subject[0] == '!' {
			return
		}
		seen[subject] = true
		if subject[0] == '+' || strings.HasPrefix(subject, "%:") {
			p.beyond[subject] = true
			return
		}
		group, isGroup := strings.CutPrefix(subject, "%")
		switch number, isNumber := strings.CutPrefix(group, "#"); {
		case isNumber && isGroup:
			for _, name := range byNumber(r.groups, number) {
				p.groups[name] = "sudoers"
			}
			for name, n := range numbers {
				if n == number {
					p.groups[name] = "sudoers"
				}
			}
		case isNumber:
			for _, name := range byNumber(r.accounts, number) {
				p.accounts[name] = "sudoers"
			}
		case isGroup:
			p.groups[group] = "sudoers"
		case subject == "ALL":
			p.everyone = true
		case p.aliases[subject] != nil:
			for _, s := range p.aliases[subject] {
				add(s)
			}
		default:
			p.accounts[subject] = "sudoers"
		}
	}
	for _, s := range p.subjects {
		add(s)
	}
}

// ways are all the ways in which an account can become superuser; through are
// the groups that have it as a member and give that.
func (p *power) ways(o *model.Object, through []string) (how []string) {
	for _, g := range through {
		how = append(how, "group "+g)
	}
	if g := o.Attributes.One(model.PrimaryGroup); g != "" && !slices.Contains(through, g) {
		if _, gives := p.groups[g]; gives {
			how = append(how, "primary group "+g)
		}
	}
	how = append(how, p.ours[o.Name]...)
	if file := p.accounts[o.Name]; file != "" {
		how = append(how, file)
	} else if p.everyone {
		how = append(how, "sudoers")
	}
	if n, err := strconv.Atoi(o.Attributes.One(model.Number)); err == nil && n == superuser {
		how = append(how, "number 0")
	}
	return how
}

const superuser = 0 // the number

// object tells of the power itself, so that whoever is about to gain it is seen
// before: names that sudo's files hold count although nobody has them yet.
func (p *power) object() model.Object {
	var accounts, groups []string
	for name := range p.accounts {
		accounts = append(accounts, name)
	}
	if p.everyone {
		accounts = append(accounts, model.Everyone)
	}
	for name := range p.beyond {
		accounts = append(accounts, name)
	}
	for name := range p.groups {
		groups = append(groups, name)
	}
	slices.Sort(accounts)
	slices.Sort(groups)
	return model.Object{Kind: model.RightKind, Name: model.Superuser, System: true, Attributes: model.Pack(
		model.Attribute{Name: model.Members, Values: accounts}, model.Attribute{Name: model.MemberGroups, Values: groups},
		model.Attribute{Name: model.Number, Values: []string{strconv.Itoa(superuser)}})}
}
