package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// TestTour: the tour is offered once where the demo is, each of its steps waits until it was
// really done, and it can be had again from the list of keys.
func TestTour(t *testing.T) {
	p := newPage(t)
	p.visit("/programs")
	value[bool](p, `localStorage.removeItem('entelon-tour'), localStorage.removeItem('entelon-tour-offered'), true`)
	p.visit("/programs")
	p.until("the offer", `/tour in four steps/.test(document.querySelector('[data-test=tour]')?.innerText)`)
	p.looked("tour")
	p.do("beginning", chromedp.Click(`//*[@data-test="tour"]//button[normalize-space()="Begin the tour"]`, chromedp.NodeVisible))
	at := func(step string) {
		t.Helper()
		p.until(step, `document.querySelector('[data-test=tour]')?.innerText.replace(/\s+/g, ' ').startsWith('`+step+`')`)
	}
	at("Notice 1 of 4")
	p.do("the ledger", chromedp.Click(`//h2/a[normalize-space()="engraved"]`, chromedp.NodeVisible))
	at("Find 2 of 4")
	p.do("why", chromedp.Click(`(//*[@data-test="build"])[2]//button[normalize-space()="why?"]`, chromedp.NodeVisible))
	at("Compare 3 of 4")
	p.until("its first suspect", `document.querySelector('[data-test=both-card] h2')?.innerText.includes('slur.lift')`)
	p.looked("tour-compare")
	p.key("5")
	at("Decide 4 of 4")
	p.do("the slower build", chromedp.Click(`//a[contains(., "In 3.5.0")]`, chromedp.NodeVisible))
	p.until("the end", `!document.querySelector('[data-test=tour]') && /That was the tour/.test(document.body.innerText)`)
	p.visit("/programs")
	p.says("Compare with 3.4.0")
	p.until("no offer any more", `!document.querySelector('[data-test=tour]')`)
	p.key("?")
	p.do("once more", chromedp.Click(`//*[@role="dialog"]//button[normalize-space()="Tour of the demo"]`, chromedp.NodeVisible))
	at("Notice 1 of 4")
	p.do("ending", chromedp.Click(`//*[@data-test="tour"]//button[normalize-space()="end the tour"]`, chromedp.NodeVisible))
	p.until("no tour", `!document.querySelector('[data-test=tour]')`)
}
