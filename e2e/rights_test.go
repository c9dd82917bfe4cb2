package e2e

import (
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestNothingRunsUnseen: a take that was sent here is made again only once its
// command, user and folder were looked at and confirmed; a no runs nothing.
func TestNothingRunsUnseen(t *testing.T) {
	p := newPage(t)
	mustCollect(p)
	key := value[string](p, `fetch('/api/v1/takes?program=inkraster&limit=1').then(r => r.json()).then(d => d.takes[0].key)`)
	p.visit("/takes/" + key)
	p.until("the take", `document.body.innerText.includes('100 % =')`)
	jobs := func() int {
		return value[int](p, `fetch('/api/v1/jobs').then(r => r.json()).then(d => d.jobs.length)`)
	}
	before := jobs()
	p.key("r")
	p.says("Check what would run before you start it")
	command := value[string](p, `document.querySelector('[data-test=order-command]').innerText`)
	if !strings.Contains(command, "inkraster") {
		t.Errorf("the command that is shown is %q", command)
	}
	if user := value[string](p, `document.querySelector('[data-test=order-user]').innerText`); user == "" {
		t.Error("no user is shown")
	}
	if *shots != "" && *all {
		p.picture(filepath.Join(*shots, "order.png"))
	}
	p.do("saying no", chromedp.Click(`//button[normalize-space()="Cancel"]`, chromedp.NodeVisible))
	p.until("the dialog is gone", `!document.querySelector('[data-test=order]')`)
	if now := jobs(); now != before {
		t.Errorf("after a no there are %d jobs, before %d", now, before)
	}
	p.key("r")
	p.until("the dialog again", `document.querySelector('[data-test=order]')`)
	p.click("[data-test=order]")
	p.until("the page of the take", `location.pathname.startsWith('/running/')`)
	// The demo's command is not on this machine, or is not nobody's to run: it says so.
	p.until("why it cannot be", `document.querySelector('[role=alert]') || location.pathname.startsWith('/takes/')`)
}

// TestAMachineIsAdded: who manages people makes a link that works once, and
// removes the machine again.
func TestAMachineIsAdded(t *testing.T) {
	p := newPage(t)
	p.visit("/machines")
	p.says("Machines")
	p.click("[data-test=add-machine]")
	p.do("naming it", chromedp.SendKeys("[data-test=collector-name]", "press 12", chromedp.NodeVisible))
	p.click("[data-test=make-link]")
	p.until("the command", `document.querySelector('[data-test=enrol]')?.innerText.includes('entelon collector enrol http')`)
	if *shots != "" && *all {
		p.picture(filepath.Join(*shots, "add-machine.png"))
	}
	command := value[string](p, `document.querySelector('[data-test=enrol]').innerText`)
	_, link, _ := strings.Cut(command, "/enrol/")
	key := "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA" // 32 bytes
	enrol := func() int {
		resp, err := http.Post(base+"/api/v1/collector/enrol", "application/json", strings.NewReader(fmt.Sprintf(`{"link":%q,"public_key":%q}`, strings.TrimSpace(link), key)))
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if first, second := enrol(), enrol(); first != http.StatusOK || second != http.StatusUnauthorized {
		t.Errorf("the link is answered with %d, then %d", first, second)
	}
	p.visit("/machines")
	p.says("Enrolled, never connected")
	p.do("removing it", chromedp.Click(`//section[@aria-label="press 12"]//button[normalize-space()="remove"]`, chromedp.NodeVisible))
	p.says("Takes in progress end with what has arrived")
	p.click("[data-test=remove-machine]")
	p.until("it is gone", `!document.querySelector('section[aria-label="press 12"]')`)
}
