package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"hen-roost/internal/demo"
)

// Two people live on every kind of target at once and share its groups, rights and seats. After each act a survey finds
// nothing that was not stored, who can become superuser is told, and what the other person has is untouched.

// lifeRoles give an account everywhere, and life-chief superuser rights in the way of each kind. ada and bo are made up.
const lifeRoles = `roost: 1
groups:
  lifers: {number: 5190}
rights:
  life-master: {at: northquay-switch, allows: [master]}
  life-super: {at: stores-database, allows: ["SUPER ON *.*"]}
  life-maker: {at: rota-database, allows: [CREATEROLE]}
roles:
  life:
    gives:
      - {at: {kind: host}, account: {shell: /bin/sh}, groups: [lifers]}
      - {at: staff-directory, account: {home: "/home/${user.id}", shell: /bin/bash}, groups: [lifers]}
      - {at: crewing, account: {belongs: deck}, groups: [deck]}
      - {at: stores-database, account: {origin: "10.20.%"}, groups: [lifers], rights: [see-stores]}
      - {at: rota-database, groups: [lifers], rights: [see-rota]}
      - {at: ticketing, groups: [counter], licences: [counter-seat], rights: [sell]}
      - {at: crew-portal, groups: [mates], licences: [planner-seat]}
      - {at: northquay-switch, account: {may-from: [10.20.0.0/16]}, rights: [watch-quay]}
      - {at: old-bridge, account: {level: "1"}}
      - {at: timetables, rights: [publish]}
  life-chief:
    gives:
      - {at: {kind: host, tags: {shell: bash}}, elevate: [all]}
      - {at: stores-database, rights: [life-super]}
      - {at: rota-database, rights: [life-maker]}
      - {at: ticketing, rights: [run-desks]}
      - {at: northquay-switch, rights: [life-master]}
`

// chiefs are the targets on which life-chief makes superuser.
var chiefs = []string{"arctic-tern", "little-tern", "northquay", "northquay-switch", "rota-database", "sooty-tern", "stores-database",
	"ticketing"}

// lives is a world in which ada and bo live.
type lives struct {
	*testing.T
	d      *demo.Demo
	second string // the profile of an operator who approves
	log    []string
}

func begin(t *testing.T) *lives {
	d := prepared(t)
	l := &lives{T: t, d: d, second: one(t, d, "eve", "approve", "run", "administer", "credential")}
	dir := t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(d.Declaration)); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "life.yaml", lifeRoles)
	must(t, d, "declare", dir, "--because", "lives", "--yes")
	does(t, l.second, 0, "", "revision", "approve", "--because", "lives", "--yes")
	return l
}

// act runs a command to the end of its round, which a second operator approves where it is held.
func (l *lives) act(args ...string) {
	l.Helper()
	l.log = append(l.log, strings.Join(args, " "))
	out, said, code := roost(l.T, l.d.Profile, "", args...)
	if code != 0 && code != 3 && code != 4 {
		l.Fatalf("roost %s: exit %d\n%s%s", strings.Join(args, " "), code, out, said)
	}
	l.rounds()
}

// rounds approves and runs what waits, and awaits the end of all.
func (l *lives) rounds() {
	l.Helper()
	await(l.T, "the rounds", func() bool {
		for _, r := range decode[[]struct {
			ID    int64
			State string
		}](l.T, must(l.T, l.d, "round", "list", "-o", "json")) {
			switch r.State {
			case "held", "draft":
				does(l.T, l.second, 0, "", "approve", fmt.Sprint(r.ID))
				return false
			case "approved":
				must(l.T, l.d, "run", fmt.Sprint(r.ID))
				return false
			case "running":
				return false
			case "incomplete", "stopped":
				if slices.Contains(l.log, "bad "+fmt.Sprint(r.ID)) {
					continue
				}
				l.log = append(l.log, "bad "+fmt.Sprint(r.ID))
				out, _, _ := roost(l.T, l.d.Profile, "", "round", "show", fmt.Sprint(r.ID))
				l.Errorf("round %d is %s after %s\n%s", r.ID, r.State, l.log[len(l.log)-2], out)
			}
		}
		return true
	})
}

// object is one that a target holds, as the command line tells of it.
type object struct {
	Name       string
	Members    int
	Attributes map[string][]string
}

// byThemselves are attributes that targets write for themselves: the proof of a password is a sign-in too.
var byThemselves = []string{"last-sign-in", "changed-by", "failed-sign-ins"}

// held is all that targets are known to hold, by target, kind and name.
func (l *lives) held() map[string]string {
	out := map[string]string{}
	for _, t := range decode[[]struct{ Name string }](l.T, must(l.T, l.d, "target", "list", "-o", "json")) {
		for _, kind := range []string{"account", "group", "right", "licence", "elevation"} {
			text, said, code := roost(l.T, l.d.Profile, "", "target", "holds", t.Name, kind, "--size", "1000", "-o", "json")
			if code != 0 {
				if !strings.Contains(said, "no kind of object") {
					l.Errorf("%s on %s: %s", kind, t.Name, said)
				}
				continue
			}
			for _, o := range decode[[]object](l.T, text) {
				for _, a := range byThemselves {
					delete(o.Attributes, a)
				}
				for _, values := range o.Attributes {
					slices.Sort(values)
				}
				told, _ := json.Marshal(o.Attributes)
				members := ""
				if o.Members > 0 {
					var names []string
					for _, m := range decode[[]struct{ Name string }](l.T, must(l.T, l.d, "target", "members", t.Name, kind, o.Name,
						"-o", "json")) {
						names = append(names, m.Name)
					}
					slices.Sort(names)
					members = " members " + strings.Join(names, " ")
				}
				if kind != "account" && kind != "group" && members == "" {
					continue // a set that nobody is in may be there or not
				}
				out[t.Name+" "+kind+" "+o.Name] = string(told) + members
			}
		}
	}
	return out
}

// differ faults what two pictures have otherwise, but for what is expected to be.
func (l *lives) differ(what string, was, is map[string]string, but func(key string) bool) {
	l.Helper()
	keys := maps.Clone(was)
	maps.Copy(keys, is)
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		if was[k] != is[k] && !but(k) {
			l.Errorf("%s: %s\n   was %s\n   is  %s", what, k, was[k], is[k])
		}
	}
}

// lawful faults a picture that a survey changes.
func (l *lives) lawful(what string) map[string]string {
	l.Helper()
	stored := l.held()
	must(l.T, l.d, "survey")
	is := l.held()
	l.differ("after "+what+", stored and surveyed", stored, is, func(string) bool { return false })
	return is
}

// chief faults targets where the role makes superuser, and a user is told as one, or not as one, against what is wanted.
func (l *lives) chief(what, user string, want bool) {
	l.Helper()
	for _, target := range chiefs {
		out := must(l.T, l.d, "target", "superusers", target, "-o", "json")
		if got := strings.Contains(out, `"`+user); got != want {
			l.Errorf("after %s %s is superuser on %s: %v, want %v", what, user, target, got, want)
		}
	}
}

// others faults what somebody has that an act on another changed.
func (l *lives) others(what, user string, was, is map[string]string) {
	l.Helper()
	mine := func(all map[string]string) map[string]string {
		out := map[string]string{}
		for k, v := range all {
			_, name, _ := strings.Cut(k[strings.Index(k, " ")+1:], " ")
			login, _, _ := strings.Cut(name, "@")
			_, members, _ := strings.Cut(v, " members ")
			switch {
			case strings.Contains(k, " account ") && login == user:
				out[k] = v
			case slices.ContainsFunc(strings.Fields(members), func(m string) bool { return m == user || strings.HasPrefix(m, user+"@") }):
				out[k] = "in"
			}
		}
		return out
	}
	l.differ("what "+user+" has after "+what, mine(was), mine(is), func(string) bool { return false })
}

func joining(id, name, number string, more ...string) []string {
	first, last, _ := strings.Cut(name, " ")
	return append([]string{"join", id, name, "--number", number, "--mail", id + "@ternsound.example", "--given", first, "--family", last,
		"--detail", "base=northquay", "--role", "life", "--because", "lives", "--yes"}, more...)
}

// last is the number of the newest round.
func (l *lives) last() string {
	n := int64(0)
	for _, r := range decode[[]struct{ ID int64 }](l.T, must(l.T, l.d, "round", "list", "-o", "json")) {
		n = max(n, r.ID)
	}
	return strconv.FormatInt(n, 10)
}

func TestLives(t *testing.T) {
	l := begin(t)
	nobody := l.lawful("nothing")
	before := l.open()
	defer l.closed(before) // all that follows is a soak, of some two minutes
	against := write(t, t.TempDir(), "against.csv", "user,target,what\nada.life,*,leave lifers\n"+
		"ada.life,ticketing,leave licence counter-seat\n")
	chief := []string{"edit", "users", "ada.life", "--because", "lives", "--yes"}
	for _, x := range []struct {
		what  string
		acts  [][]string
		chief bool
	}{
		{"ada joins", [][]string{joining("ada.life", "Ada Life", "1901")}, false},
		{"bo joins", [][]string{joining("bo.life", "Bo Life", "1902", "--no-passwords", "--role", "life-chief")}, false},
		{"new passwords", [][]string{{"rotate", "ada.life", "--show", "--because", "lives"}}, false},
		{"a new key", [][]string{{"rotate", "ada.life", "--key", "--show", "--because", "lives"}}, false},
		{"suspended", [][]string{{"suspend", "ada.life", "--because", "lives"}}, false},
		{"restored", [][]string{{"restore", "ada.life", "--because", "lives"}}, false},
		{"elevated", [][]string{append(slices.Clone(chief), "--add", "roles=life-chief"), {"reconcile", "--user", "ada.life",
			"--because", "lives"}}, true},
		{"a superuser's password", [][]string{{"rotate", "ada.life", "--show", "--because", "lives", "--no-wait"}}, true},
		{"suspended as superuser", [][]string{{"suspend", "ada.life", "--because", "lives"}}, true},
		{"restored as superuser", [][]string{{"restore", "ada.life", "--because", "lives"}}, true},
		{"demoted", [][]string{append(slices.Clone(chief), "--take", "roles=life-chief"), {"reconcile", "--user", "ada.life",
			"--because", "lives"}}, false},
		{"against the declaration", [][]string{{"bulk", against, "--because", "lives"}}, false},
		{"undone", [][]string{{"undo", "LAST"}}, false},
		{"against it once more", [][]string{{"bulk", against, "--because", "lives"}}, false},
		{"brought back", [][]string{{"reconcile", "--user", "ada.life", "--because", "lives"}}, false},
		{"against it until a day", [][]string{{"bulk", against, "--because", "lives", "--until",
			time.Now().AddDate(0, 0, 9).Format(time.DateOnly)}, {"reconcile", "--user", "ada.life", "--because", "lives"}}, false},
		{"renamed", [][]string{{"rename", "ada.life", "ada.lind", "--because", "lives", "--yes"}}, false},
		{"renamed back", [][]string{{"rename", "ada.lind", "ada.life", "--because", "lives", "--yes"}}, false},
	} {
		before := l.held()
		for _, a := range x.acts {
			if a[len(a)-1] == "LAST" {
				a[len(a)-1] = l.last()
			}
			l.act(a...)
		}
		is := l.lawful(x.what)
		l.chief(x.what, "ada.life", x.chief)
		if x.what != "bo joins" {
			l.others(x.what, "bo.life", before, is)
		}
	}
	both := l.held()
	l.act("leave", "ada.life", "--at-once", "--remove", "--because", "lives", "--yes")
	gone := l.last()
	l.others("ada's removal", "bo.life", both, l.lawful("removed"))
	l.act("undo", gone)
	l.others("its undoing", "bo.life", both, l.lawful("undone"))
	both = l.held()
	gone = write(t, t.TempDir(), "gone.csv", "user,target,what\nada.life,*,remove\nbo.life,*,remove\n")
	_, _, _ = roost(t, l.d.Profile, "", "bulk", gone, "--because", "lives")
	l.settle() // where bo is the last who can administer a target they stay
	is := l.lawful("both removed")
	for _, target := range chiefs {
		if !strings.Contains(must(t, l.d, "target", "superusers", target, "-o", "json"), `"bo.life`) {
			t.Errorf("nobody can administer %s any more", target)
		}
	}
	does(t, l.d.Profile, 4, "--although-last", "suspend", "bo.life", "--because", "lives")
	does(t, l.d.Profile, 0, "it was the last account of a person that could administer", "suspend", "bo.life", "--because", "lives",
		"--although-last")
	l.lawful("the last administrators shut")
	l.differ("when both are gone", nobody, is, func(key string) bool {
		target, _, _ := strings.Cut(key, " ")
		without := slices.DeleteFunc(strings.Split(is[key], " "), func(word string) bool { return strings.HasPrefix(word, "bo.life") })
		if slices.Contains(chiefs, target) && is[key] == both[key] || strings.Join(without, " ") == nobody[key] {
			return true // the last who can administer it stays
		}
		return strings.HasSuffix(key, " lifers") || strings.Contains(key, " life") || // the groups that were made for them stay
			strings.HasPrefix(key, "rota-database right ") || // a first permission makes the usual ones plain
			strings.HasSuffix(key, " account ada.life") || strings.HasSuffix(key, " account bo.life") // where accounts are only shut
	})
}

// settle is rounds where what cannot be approved, or is not carried out, is no fault.
func (l *lives) settle() {
	await(l.T, "the rounds", func() bool {
		for _, r := range decode[[]struct {
			ID    int64
			State string
		}](l.T, must(l.T, l.d, "round", "list", "-o", "json")) {
			switch id := fmt.Sprint(r.ID); r.State {
			case "held", "draft":
				if _, _, code := roost(l.T, l.second, "", "approve", id); code != 0 {
					must(l.T, l.d, "stop", id, "--because", "lives")
				}
				return false
			case "approved":
				_, _, _ = roost(l.T, l.d.Profile, "", "run", id) // not all of it may be carried out
				return false
			case "running":
				return false
			}
		}
		return true
	})
}
