package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"hen-roost/internal/demo"
)

// page is a browser at the console.
type page struct {
	t   *testing.T
	ctx context.Context
	url string
}

func browser(t *testing.T, d *demo.Demo) page {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.UserDataDir(t.TempDir()),
		chromedp.Flag("ignore-certificate-errors", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("no-first-run", true),
		chromedp.Flag("force-device-scale-factor", "1"), chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND , EXCLUDE 127.0.0.1"))
	actx, cancel := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(cancel)
	ctx, cancel2 := chromedp.NewContext(actx)
	t.Cleanup(cancel2)
	ctx, cancel3 := context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(cancel3)
	return page{t, ctx, d.Server.Address}
}

// signedIn is a browser at a page of the console, signed in as the demo's operator.
func signedIn(t *testing.T, d *demo.Demo, path string) page {
	t.Helper()
	p := browser(t, d)
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(p.url+path), chromedp.WaitVisible(css("#operator")),
		chromedp.SendKeys(css("#operator"), demo.Operator), chromedp.SendKeys(css("#password"), d.Password))
	p.click("Sign in")
	p.sees("Sign out")
	return p
}

func (p page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, actions...); err != nil {
		p.t.Fatal(err)
	}
}

// until waits for a condition in the page.
func (p page) until(script string) {
	p.t.Helper()
	deadline := time.Now().Add(30 * time.Second)
	for {
		ok, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](script))
		if ok {
			return
		}
		if time.Now().After(deadline) || p.ctx.Err() != nil {
			text, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string](`location.href + "\n" + document.body.innerText`))
			p.t.Fatalf("never came true: %s (%v)\n%s", script, err, text)
		}
		time.Sleep(20 * time.Millisecond) // the page has no way to tell us
	}
}

func (p page) sees(text string) {
	p.t.Helper()
	p.until(`document.body.innerText.replace(/\s+/g,' ').includes(` + quote(text) + `)`)
}

type css = chromedp.CSS

func quote(s string) string { return "`" + strings.ReplaceAll(s, "`", "\\`") + "`" }

// click presses the button or link with this text.
func (p page) click(text string) {
	p.t.Helper()
	find := `[...document.querySelectorAll('button,a')].filter(x => x.innerText.trim().startsWith(` + quote(text) +
		`) && !x.disabled && x.checkVisibility()).at(-1)`
	p.until(`!!` + find)
	p.until(`(` + find + `.click(), true)`)
}

// fill puts a value in the place of whatever a field holds.
func (p page) fill(field, value string) {
	p.t.Helper()
	p.until(`(() => { const x = document.querySelector(` + quote(field) + `); if (!x) return false; x.value = ` + quote(value) +
		`; x.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
}

// shot keeps a picture when SHOTS names a folder: that is how docs/screenshots is made.
func (p page) shot(name string) {
	p.t.Helper()
	dir := os.Getenv("SHOTS")
	if dir == "" {
		return
	}
	time.Sleep(400 * time.Millisecond) // lets the picture settle; a test never waits so
	png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644)
	}
	if err != nil {
		p.t.Fatal(err)
	}
}

// One operator's way through the console, from sign-in to the record.
func TestConsole(t *testing.T) {
	d := prepared(t)
	p := browser(t, d)
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(p.url+"/"), chromedp.WaitVisible(css("#operator")))
	p.do(chromedp.SendKeys(css("#operator"), demo.Operator), chromedp.SendKeys(css("#password"), "wrong password"))
	p.click("Sign in")
	p.sees("name and password do not go together")
	p.do(chromedp.SendKeys(css("#password"), d.Password))
	p.click("Sign in")
	p.sees("findings need someone")
	p.shot("overview")

	p.click("Users")
	p.sees("60 users are declared.")
	p.shot("users")
	p.do(chromedp.Navigate(p.url + "/users/marit.fell"))
	p.sees("Side by side")
	p.click("/home/marit.fell")
	p.sees("nothing declares it, so it is left as found")
	p.click("/bin/bash")
	p.sees("role deck-crew asks for it roles.yaml line 20")
	p.shot("user")
	p.click("Targets")
	p.sees("14 targets, 0 as declared.")
	p.shot("targets")
	p.do(chromedp.Navigate(p.url + "/targets/arctic-tern"))
	p.sees("protected by")
	p.sees("Debian GNU/Linux 12 (bookworm)")
	p.shot("target")
	p.click("Ask")
	p.sees("Nobody is signed in there now.")
	p.click("21 groups")
	p.sees("crew")
	p.click("2 accounts")
	p.sees("hanne.vik")
	p.shot("groups")
	p.click("crew")
	p.sees("What became of crew")
	p.sees("first seen; jarle.holm, wilma.toft came in")
	p.click("Side by side")
	p.sees("found, and nothing known asks for it")
	p.sees("wilma.toft")
	p.shot("matrix")

	// The declaration is checked as one types, and says what it means for people.
	p.click("Declaration")
	p.sees("Revision 2 is declared.")
	p.click("deck.yaml")
	type_ := func(from, to string) {
		t.Helper()
		p.until(`(() => { const x = document.querySelector('textarea'); if (!x || !x.value.includes(` + quote(from) +
			`)) return false; x.value = x.value.replace(` + quote(from) + `, ` + quote(to) +
			`); x.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
	}
	type_("roles: [deck-crew]", "roles: [deck-crew, mat]")
	p.sees(`no role is called "mat"; did you mean "mate"?`)
	type_("roles: [deck-crew, mat]", "roles: [deck-crew, mate]")
	p.sees("group bridge on 4 targets")
	p.shot("declaration")
	p.do(chromedp.Navigate(p.url + "/drift"))
	p.sees("1141 findings")
	p.do(chromedp.Navigate(p.url + "/declaration"))
	p.sees("This is the text that you left here, begun from revision 2.")
	p.sees("group bridge on 4 targets")
	p.click("Declare it")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "Marit becomes mate"))
	p.click("Declare")
	p.sees("For people, from revision 2 to 3")
	p.sees("roles: [deck-crew, mate]")
	p.shot("revision")
	p.do(chromedp.Navigate(p.url + "/declaration/1"))
	p.click("Bring it back")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "not yet"))
	p.click("Bring back")
	p.sees("Revision 4, by odd.strand")

	p.click("Drift")
	p.sees("What would be done")
	p.sees("1141 findings")
	// Kari Berg's account is looked at later, and somebody looks after it.
	p.do(chromedp.Navigate(p.url + "/drift?kind=unmatched"))
	p.sees("1 finding, unmatched.")
	p.until(`(document.querySelector('td input').click(), true)`)
	p.sees("Draft a round from the 1 chosen")
	p.click("assign to me")
	p.sees("odd.strand looks after it")
	p.do(chromedp.Navigate(p.url + "/drift?which=odd.strand"))
	p.sees("1 finding that odd.strand looks after.")
	p.until(`(document.querySelector('td input').click(), true)`)
	p.click("Draft a round from the 1 chosen")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "only mine"))
	p.click("Draft")
	p.sees("Nothing to draft. For a person to decide: kari.berg on sooty-tern.")
	p.do(chromedp.Navigate(p.url + "/drift"))
	p.sees("1141 findings")
	p.shot("drift")
	p.click("Draft a round from all")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "spring deck crew"))
	p.click("Draft")
	p.sees("It waits for approval.")
	p.shot("round-review")
	p.click("Approve")
	p.sees("It waits to be run.")
	p.click("Run")
	p.sees("Round 1 is complete: 1121 done.")
	p.shot("round")
	p.click("Undo")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "only to see it"))
	p.click("Draft")
	p.sees("It takes back round 1")
	p.sees("cannot be brought back")
	p.shot("round-undo")
	p.click("Put away")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "seen"))
	p.click("Stop")
	p.sees("Round 2 was stopped")
	p.click("Rounds")
	p.sees("2 rounds, none waiting.")
	p.click("changes in bulk")
	p.until(`(() => { const t = document.querySelector('textarea'); t.value = "user,target,what\nmarit.fell,*,disable\nliv.hauge,staff-directory,leave deck\nnobody,arctic-tern,disable\n"; t.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
	p.click("Draft a round")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "laptop lost"))
	p.click("Draft")
	p.sees(`no user is called "nobody"`)
	p.sees("1 refused.")
	p.until(`decodeURIComponent(document.querySelector('a[download]').href).includes('line,user,target,what,outcome,words')`)
	p.shot("bulk")
	p.click("Round 3")
	p.sees("Put away")
	p.click("Put away")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "found again"))
	p.click("Stop")
	p.sees("Round 3 was stopped")
	p.do(chromedp.Navigate(p.url + "/rounds/bulk"))
	p.click("All for whom a condition holds")
	p.do(chromedp.WaitVisible(css("#where")), chromedp.SendKeys(css("#where"), "user.id =="), chromedp.SendKeys(css("#what"), "disable"))
	p.click("Draft a round")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "a slip"))
	p.click("Draft")
	p.sees("Syntax error")

	p.click("Record")
	p.sees("Check the chain")
	p.click("Check the chain")
	p.sees("the record holds")
	p.shot("record")
	p.click("comment")
	p.do(chromedp.WaitVisible(css("li form input")), chromedp.SendKeys(css("li form input"), "agreed with the captain"))
	p.click("Add")
	p.sees("agreed with the captain")
	p.click("Overview")
	p.sees("1 finding needs someone")
	// What somebody does elsewhere is seen without a touch.
	must(t, d, "adopt", "sooty-tern", "kberg", "kari.berg", "--because", "says the bosun")
	p.sees("decided that account kberg on sooty-tern is kari.berg's")

	// From anywhere with the keyboard alone.
	// The browser's own key event types its letter even when the page declines it, so this one is made in the page.
	p.until(`(document.body.dispatchEvent(new KeyboardEvent('keydown', {key: '/', bubbles: true})), document.activeElement.getAttribute('role') === 'combobox')`)
	p.do(chromedp.KeyEvent("bjorn"))
	p.until(`document.querySelector('[role=option]')?.innerText.includes('bjorn.aasen') ?? false`)
	p.do(chromedp.KeyEvent("\r"))
	p.sees("Bjørn Åsen is as declared on 5 targets.")
	p.do(chromedp.Navigate(p.url + "/users/nobody.such"))
	p.sees(`no user is called "nobody.such"`)

	// Two who change the same line are both told; nothing of either is lost.
	p.click("Declaration")
	p.click("deck.yaml")
	type_("roles: [deck-crew]", "roles: [deck-crew, mate]")
	p.sees("group bridge on 4 targets")
	must(t, d, "edit", "users", "marit.fell", "--add", "roles=bosun", "--yes", "--because", "says the captain")
	type_("roles: [deck-crew, mate]", "roles: [mate]")
	p.sees("changes the same lines (deck.yaml, line 12")
	p.sees("theirs roles: [deck-crew, bosun]")
	p.shot("declaration-clash")
	p.click("forget your text and begin from the newest")
	p.sees("Revision 5 is declared.")
	p.do(chromedp.Navigate(p.url + "/users/jens-ole.krag"))
	p.click("Rename")
	p.do(chromedp.WaitVisible(css("dialog[open] input")),
		chromedp.SendKeys(css("dialog[open] input[maxlength='200']"), "jens-ole.bell"),
		chromedp.SendKeys(css("dialog[open] input[maxlength='500']"), "married"))
	p.click("See what it means")
	p.sees("These accounts stay theirs")
	p.shot("rename")
	p.click("Declare it")
	p.sees("formerly jens-ole.krag")
	p.do(chromedp.Navigate(p.url + "/weak-passwords"))
	p.sees("Nobody took a password that a policy watches for.")

	// Somebody is cut off with one key and one reason, seen to be shut out, and let in again.
	p.do(chromedp.Navigate(p.url + "/users/bjorn.aasen"))
	p.sees("Cut Bjørn Åsen off now")
	p.until(`(document.body.dispatchEvent(new KeyboardEvent('keydown', {key: 'x', bubbles: true})), true)`)
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "laptop lost"))
	p.click("Cut off")
	p.sees("Suspended: 5 of 5 accounts are shut")
	p.sees("refused")
	p.sees("suspended since")
	p.shot("suspension")
	p.click("Overview")
	p.sees("1 person is suspended, and shut out.")
	p.shot("overview-suspended")
	p.do(chromedp.Navigate(p.url + "/users/bjorn.aasen"))
	p.click("Restore")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "laptop found"))
	p.click("Restore")
	p.sees("opens the accounts again")
	p.sees("Bjørn Åsen is as declared on 5 targets.")

	// Whose season ends is seen before it does, and stays for longer with a reason.
	must(t, d, "edit", "users", "catriona.bell", "--set", "until="+time.Now().UTC().AddDate(0, 0, 9).Format(time.DateOnly), "--yes",
		"--because", "the season")
	p.click("Users")
	p.click("Whose access ends soon")
	p.sees("1 thing ends within 14 days.")
	p.shot("ending")
	p.click("Extend")
	p.do(chromedp.WaitVisible(css("dialog input")), chromedp.SendKeys(css("dialog input"), "the season goes on"))
	p.fill("dialog input[type=date]", "2031-01-31")
	p.shot("extend")
	p.click("Extend")
	p.sees("Nothing ends within 14 days.")

	p.click("Odd Strand")
	p.do(chromedp.WaitVisible(css("#old")), chromedp.SendKeys(css("#old"), "wrong password"),
		chromedp.SendKeys(css("#new"), "a new long password"), chromedp.SendKeys(css("#again"), "another long password"))
	p.click("Change it")
	p.sees("The new password was not typed twice alike.")
	p.fill("#again", "a new long password")
	p.click("Change it")
	p.sees("that is not the password you have")
	p.shot("password")
	p.fill("#old", d.Password)
	p.click("Change it")
	p.sees("Your password is changed.")

	p.click("as the system")
	p.click("light")
	p.do(chromedp.Navigate(p.url + "/"))
	p.sees("What happened")
	p.shot("overview-dark")
	p.do(chromedp.EmulateViewport(390, 800), chromedp.Navigate(p.url+"/"))
	p.sees("What happened")
	p.until(`document.documentElement.scrollWidth <= 390`)
	p.shot("overview-phone")
	p.click("Sign out")
	p.do(chromedp.WaitVisible(css("#operator")))
}
