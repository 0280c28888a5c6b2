package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"hen-roost/internal/demo"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/life"
	"hen-roost/internal/service/seen"
)

// edited changes the declaration's files and declares them.
func edited(t *testing.T, d *demo.Demo, file string, pairs ...string) {
	t.Helper()
	path := filepath.Join(d.Declaration, file)
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer(pairs...).Replace(string(b))
	if text == string(b) {
		t.Fatalf("%s has nothing like %q", file, pairs[0])
	}
	write(t, d.Declaration, file, text)
	declares(t, d, "as the test wants it")
}

// declares declares the company's files, and puts in force what of them is guarded: there is one operator alone.
func declares(t *testing.T, d *demo.Demo, because string) {
	t.Helper()
	must(t, d, "declare", d.Declaration, "--yes", "--because", because)
	approves(t, d)
}

// approves puts in force what waits.
func approves(t *testing.T, d *demo.Demo) {
	t.Helper()
	must(t, d, "revision", "approve", "--yes", "--password-file", filepath.Join(filepath.Dir(d.Declaration), "operator-password"))
}

// approved lets a round run that is held, and runs it.
func approved(t *testing.T, d *demo.Demo, id int64) {
	t.Helper()
	if _, err := d.Server.Service.Approve(context.Background(), door.Itself, id); err != nil {
		t.Fatal(err)
	}
	must(t, d, "run", fmt.Sprint(id))
}

// A target is commissioned: the administrator is made and proved, and only then the superuser's password is closed and
// the factory account shut. When the proof fails what was made is gone again, and nothing is closed.
func TestCommission(t *testing.T) {
	d := prepared(t)
	h := d.Hosts["little-tern"]
	shell := func(command string) string {
		t.Helper()
		out, err := h.Exec(command)
		if err != nil {
			t.Fatalf("%s: %v %s", command, err, out)
		}
		return strings.TrimSpace(out)
	}
	shell("printf 'root:Rope-90-knots\n' | chpasswd")
	expect(t, d, 1, "no user is called", "commission", "little-tern", "--administrator", "od.strand", "--because", "x")
	expect(t, d, 1, "give them a role with elevate", "commission", "little-tern", "--administrator", "helene.roux", "--because", "x")
	edited(t, d, "roles.yaml", "        groups: [systems]\n      - at: staff-directory",
		"        groups: [systems]\n      - at: little-tern\n        elevate: [all]\n      - at: staff-directory")

	commission := func(code int) life.Commissioned {
		t.Helper()
		out, said, got := roost(t, d.Profile, "", "commission", "little-tern", "--administrator", "odd.strand", "--because", "take over",
			"-o", "json")
		if got != code {
			t.Fatalf("exit %d, want %d: %s%s", got, code, out, said)
		}
		return decode[life.Commissioned](t, out)
	}
	stages := func(x life.Commissioned) (out string) {
		for _, s := range x.Stages {
			out += s.What + " " + s.State + "; "
		}
		return out
	}
	first := commission(4)
	if stages(first) != "administrator waiting; " || len(first.Links) != 1 {
		t.Fatalf("%s %+v", stages(first), first)
	}
	// Where sudo lets nobody in the account is made, and proves nothing.
	shell("mv /etc/pam.d/sudo /etc/pam.d/sudo.kept; echo 'auth requisite pam_deny.so' >/etc/pam.d/sudo")
	approved(t, d, first.Stages[0].Round)
	if got := stages(commission(4)); !strings.HasSuffix(got, "proof failed; closing not-tried; ") {
		t.Errorf("where sudo lets nobody in: %s", got)
	}
	if got := shell("grep ^root: /etc/shadow | cut -c6-8"); !strings.HasPrefix(got, "$") {
		t.Errorf("the superuser was closed all the same: %s", got)
	}
	shell("mv /etc/pam.d/sudo.kept /etc/pam.d/sudo")
	again := commission(0)
	if !again.Complete || !strings.Contains(stages(again), "proof done; closing done; ") {
		t.Errorf("%s %+v", stages(again), again)
	}
	got := shell("grep ^root: /etc/shadow | cut -c6; grep ^guest: /etc/shadow | cut -d: -f8; chage -l odd.strand | head -1")
	if !strings.HasPrefix(got,
		"!\n1\n") || !strings.Contains(got, "password must be changed") {
		t.Errorf("%s", got)
	}
	if got := stages(commission(4)); !strings.HasSuffix(got, "proof waiting; ") {
		t.Errorf("once more: %s", got)
	}
	expect(t, d, 0, "odd.strand Odd Strand elevation all open", "target", "superusers", "little-tern")
	expect(t, d, 0, "prove that odd.strand signs in and becomes superuser: proved by signing in", "record", "--target", "little-tern",
		"--size", "1000")
}

// What people left is seen, and goes by a round like any other; targets are set beside each other.
func TestHomesAndTwins(t *testing.T) {
	d := taken(t)
	h := d.Hosts["northquay"]
	if out, err := h.Exec("for n in a b 'c d'; do mkdir -p \"/home/$n/x\"; echo 1 >\"/home/$n/x/f\"; touch -d 2025-01-31 " +
		"\"/home/$n/x/f\" \"/home/$n\"; chown -R 1990 \"/home/$n\"; done"); err != nil {
		t.Fatal(out)
	}
	expect(t, d, 0, "homes, 3 may go", "home", "list", "northquay")
	expect(t, d, 0, "left alone by \"kiosk\"", "home", "list")
	expect(t, d, 1, "nobody has a home", "home", "list", "staff-directory")
	expect(t, d, 2, "a number of days", "home", "list", "--stale", "soon")
	expect(t, d, 2, "say what becomes of them", "home", "draft", "northquay", "--because", "x")
	out := expect(t, d, 0, "Look at it: roost round show", "home", "draft", "northquay", "--stale", "90", "--archive", "--because",
		"end of season")
	if _, err := h.Exec("touch /home/b/x/f"); err != nil {
		t.Fatal(err)
	}
	id := out[strings.LastIndex(out, " ")+1 : len(out)-1]
	must(t, d, "approve", id)
	expect(t, d, 4, "2 done", "run", id)
	if out, _ := h.Exec("ls /home | tr '\\n' ' '; ls /var/backups/homes | wc -l"); !strings.Contains(out, "b ") || strings.Contains(out,
		"c d") ||
		!strings.HasSuffix(strings.TrimSpace(out), "3") {
		t.Errorf("%s", out)
	}
	must(t, d, "survey")
	expect(t, d, 3, "arctic-tern and sooty-tern differ in", "compare", "arctic-tern", "sooty-tern")
	expect(t, d, 1, "always like itself", "compare", "arctic-tern", "arctic-tern")
	if f := decode[seen.Fleet](t, must(t, d, "fleet", "list", "--tag", "fleet=vessels", "-o", "json")); len(f.Items) != 3 || f.Odd != 1 {
		t.Errorf("%+v", f)
	}
	expect(t, d, 0, "3 targets", "fleet", "list", "--tag", "fleet=vessels")
	expect(t, d, 0, "only here there is an account", "fleet", "list", "--tag", "fleet=vessels", "--only-odd")
	expect(t, d, 1, "tag", "fleet", "list", "--tag", "fleet=vesels")
	expect(t, d, 0, "Round", "target", "renumber", "sooty-tern", "jarle.holm", "1790", "--because", "1701 is wanted")
	if _, err := h.Exec("groupadd -g 5113 bilge"); err != nil {
		t.Fatal(err)
	}
	must(t, d, "survey", "northquay")
	must(t, d, "edit", "groups", "galley", "--set", "about=Cooks", "--file", "groups.yaml", "--yes", "--because", "new")
	expect(t, d, 0, "no role of theirs names a range", "allot", "--group", "galley", "--because", "new")
	must(t, d, "edit", "groups", "deck", "--add", "in=galley", "--yes", "--because", "new")
	expect(t, d, 2, "--yes", "allot", "--because", "numbers")
	if out := expect(t, d, 0, "Declared as revision", "allot", "--yes", "--because", "numbers"); !strings.Contains(out, "5114") {
		t.Errorf("%s", out)
	}
	expect(t, d, 0, "has 5114 already", "allot", "--group", "galley", "--because", "again")
	expect(t, d, 1, "group", "allot", "--group", "galey", "--because", "again")
	expect(t, d, 0, "Round", "target", "renumber", "northquay", "bilge", "5999", "--group", "--because", "5113 is wanted")
}

// One target is reached via another, and says so when that cannot be had.
func TestVia(t *testing.T) {
	d := taken(t)
	edited(t, d, "targets.yaml", "    address: ${params.arctic_tern}\n", "    address: ${params.arctic_tern}\n    via: northquay\n",
		"    address: ${params.staff_directory}\n", "    address: ${params.staff_directory}\n    via: northquay\n")
	expect(t, d, 1, "key not accepted", "survey", "arctic-tern", "staff-directory") // the way there is another
	must(t, d, "target", "accept-key", "--all-new")
	expect(t, d, 0, "● surveyed", "survey", "arctic-tern", "staff-directory")
	d.Hosts["northquay"].Stop()
	expect(t, d, 1, "arctic-tern is reached via northquay", "survey", "arctic-tern")
}

// The pages of hosts: what is odd in a fleet, two beside each other, superusers and homes on one, and its commissioning.
func TestHostPages(t *testing.T) {
	d := taken(t)
	if out, err := d.Hosts["northquay"].Exec("mkdir -p /home/old.crew/x; echo 1 >/home/old.crew/x/f; " +
		"touch -d 2025-01-31 /home/old.crew/x/f /home/old.crew; chown -R 1991 /home/old.crew"); err != nil {
		t.Fatal(out)
	}
	must(t, d, "survey")
	p := signedIn(t, d, "/fleet?tag=fleet%3Dvessels")
	p.sees("3 targets, 1 of them odd among their like.")
	p.sees("only here there is an account kberg, mfell")
	p.shot("fleet")
	p.do(chromedp.Click(css(`[aria-label="Choose arctic-tern"]`)), chromedp.Click(css(`[aria-label="Choose sooty-tern"]`)))
	p.click("Compare arctic-tern with sooty-tern")
	p.sees("arctic-tern and sooty-tern differ in")
	p.shot("compare")
	p.do(chromedp.Navigate(p.url + "/targets/northquay"))
	p.sees("Who can become superuser")
	p.sees("Homes")
	p.click("Look")
	p.sees("1 may go")
	p.sees("nobody, number 1991")
	p.until(`(document.querySelector('[aria-label="Homes"]').scrollIntoView({block: 'center'}), true)`)
	p.shot("homes")
	p.click("Draft a round that clears 1 home")
	p.do(chromedp.SendKeys(css(`[placeholder="why, for those who read the record"]`), "end of season"))
	p.click("Draft")
	p.sees("remove home")
	p.do(chromedp.Navigate(p.url + "/targets/little-tern"))
	p.click("Commission")
	p.do(chromedp.SendKeys(css("#administrator"), "odd.strand"),
		chromedp.SendKeys(css(`[placeholder="why, for those who read the record"]`), "take over"))
	p.shot("commission")
	p.do(chromedp.Click(css(`form button[type="submit"]`)))
	p.sees("is not commissioned yet")
}
