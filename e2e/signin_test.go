package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestSignIn: nobody sees anything; a link lets somebody new in, who sets a
// password, makes a token, signs out, is sent to the sign-in page and comes
// back to where they wanted to go.
func TestSignIn(t *testing.T) {
	p := newPage(t)
	p.visit("/you")
	p.says("manages people")
	p.click("a[href='/people']")
	p.says("What was done")
	p.do("naming a person", chromedp.SendKeys("input[aria-label='Name of the new person']", "Greta Stichel"), chromedp.SendKeys("input[aria-label='Name of the new person']", kb.Enter))
	p.says("It works once")
	link := value[string](p, "[...document.querySelectorAll('.select-all')].map(e => e.textContent)[0]")
	if !strings.HasPrefix(link, base+"/enter/") {
		t.Fatalf("the link is %q", link)
	}
	p.says("person added")

	// A window of its own has cookies of its own.
	dir, err := os.MkdirTemp("", "entelon-greta-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	mine := browser
	quit, err := open(filepath.Join(dir, "browser"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { quit(); browser = mine }()
	g := newPage(t)
	g.visit("/takes?program=engraved")
	g.says("No password yet?")
	if seen := value[string](g, "document.body.innerText"); strings.Contains(seen, "3.5.0") {
		t.Error("who is not signed in sees takes")
	}
	g.visit(strings.TrimPrefix(link, base))
	g.says("Set a password under You")
	g.visit("/you")
	g.says("You have none yet")
	const password = "plate and burnisher"
	g.do("setting a password", chromedp.SendKeys("input[autocomplete='new-password']", password), chromedp.SendKeys("input[autocomplete='new-password']", kb.Enter))
	g.says("Your password was set")
	g.do("making a token", chromedp.SendKeys("input[aria-label='What the token is for']", "builds"), chromedp.SendKeys("input[aria-label='What the token is for']", kb.Enter))
	g.says("It is not shown again")
	if secret := value[string](g, "document.querySelector('[data-test=secret]').textContent"); len(secret) < 40 {
		t.Errorf("the token is %q", secret)
	}
	g.until("no way to manage people", "!document.body.innerText.includes('People and what was done')")
	g.click("header button.action")
	g.says("Sign in")
	g.visit("/takes?program=engraved")
	g.until("the sign-in page", "location.pathname === '/sign-in'")
	g.do("a wrong password", chromedp.SendKeys("input[autocomplete='username']", "Greta Stichel"), chromedp.SendKeys("input[type='password']", "not this one"), chromedp.SendKeys("input[type='password']", kb.Enter))
	g.says("is not right")
	g.do("the right one", chromedp.SendKeys("input[type='password']", password), chromedp.SendKeys("input[type='password']", kb.Enter))
	g.until("the takes of engraved", "location.pathname === '/takes' && document.body.innerText.includes('3.5.0')")
	if value[bool](g, "document.cookie.includes('entelon')") {
		t.Error("scripts can read the session")
	}
}
