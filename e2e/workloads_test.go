package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// TestWorkloads: a program's home shows takes of one workload, counts the others, and
// leads to them; a workload is named and merged, and that is undone; a take is moved.
func TestWorkloads(t *testing.T) {
	p := newPage(t)
	p.visit("/programs")
	p.until("the takes of other workloads, apart", `/(20|25) takes of [45] builds/.test(document.body.innerText)`)
	p.until("which one is shown", `/of the workload\s+--scores 300/.test(document.querySelector('section[aria-label=engraved]').innerText)`)
	p.visit("/programs/engraved")
	p.until("the workload", `document.querySelector('[data-test=workload]')?.innerText.includes('--scores 300')`)
	p.until("its builds", `document.querySelectorAll('[data-test=build]').length === 4 && /\+ regression/.test(document.querySelectorAll('[data-test=build]')[1].innerText)`)
	p.looked("workloads-ledger")

	p.do("the other workload", chromedp.Click(`[data-test=workload] button`, chromedp.NodeVisible))
	p.do("choosing it", chromedp.Click(`//li[contains(., "attached, --drive")]`, chromedp.NodeVisible))
	p.until("its builds alone", `document.querySelectorAll('[data-test=build]').length === 2 && new URLSearchParams(location.search).get('workload')`)
	p.until("what stayed the same to count by", `/unchanged work/.test(document.querySelector("h1").innerText)`)

	p.do("all of them", chromedp.Click(`//button[contains(., "of other workloads")]`, chromedp.NodeVisible))
	p.until("the list", `document.querySelectorAll('[data-test=workload-row]').length === 3`)
	p.looked("workloads-dialog")
	p.do("renaming", chromedp.Click(`//*[@role="dialog"]//li[contains(., "attached")]//button[normalize-space()="rename"]`, chromedp.NodeVisible))
	p.do("a name", chromedp.SendKeys(`input[aria-label="Name of the workload"]`, "one desk\r", chromedp.NodeVisible))
	p.until("the name", `Array.from(document.querySelectorAll('[role=dialog] li'), e => e.innerText).some(x => x.startsWith('one desk') && x.includes('attached, --drive'))`)
	p.do("choosing it to be merged", chromedp.Click(`//*[@role="dialog"]//li[contains(., "one desk")]//input[@type="checkbox"]`, chromedp.NodeVisible))
	p.do("merging", chromedp.Click(`//*[@role="dialog"]//button[normalize-space()="Merge"]`, chromedp.NodeVisible))
	p.until("one less", `document.querySelectorAll('[role=dialog] li').length === 2 && /with one desk/.test(document.querySelector('[role=dialog] li').innerText)`)
	p.do("undoing", chromedp.Click(`//*[@role="dialog"]//button[normalize-space()="undo"]`, chromedp.NodeVisible))
	p.until("all again", `document.querySelectorAll('[role=dialog] li').length === 3`)
	p.do("undoing the name", chromedp.Click(`//*[@role="dialog"]//button[normalize-space()="undo"]`, chromedp.NodeVisible))
	p.until("its words", `Array.from(document.querySelectorAll('[role=dialog] li'), e => e.innerText).some(x => x.startsWith('attached, --drive'))`)
	p.do("closing", chromedp.Click(`//*[@role="dialog"]//button[normalize-space()="Close"]`, chromedp.NodeVisible))

	// A take is put where it belongs, from its facts, and comes back.
	key := value[string](p, `fetch('/api/v1/takes?program=engraved&limit=1000').then(r => r.json()).then(r => r.takes.find(t => t.workload.startsWith('attached')).key)`)
	p.visit("/takes/" + key)
	p.says("itself takes")
	p.do("the facts", chromedp.Click(`//button[contains(., "Facts")]`, chromedp.NodeVisible))
	p.until("its workload", `document.querySelector('[data-test=workload-of]')?.innerText.includes('attached, --drive --workers 1')`)
	p.do("moving it", chromedp.Click(`//*[@data-test="workload-of"]//button[normalize-space()="move to another"]`, chromedp.NodeVisible))
	p.until("where to", `document.querySelector('[data-test=workload-of] form')?.innerText.includes('--scores 300')`)
	p.do("there", chromedp.Click(`//*[@data-test="workload-of"]//button[normalize-space()="Move"]`, chromedp.NodeVisible))
	p.until("it is there", `document.querySelector('[data-test=workload-of]')?.innerText.startsWith('--scores 300')`)
	value[bool](p, `fetch('/api/v1/programs/engraved/workloads/undo', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: '{}'}).then(r => r.ok)`)
	p.visit("/programs/engraved")
	p.until("the ledger as it was", `/5 takes of other workloads/.test(document.body.innerText)`)
}

// TestCompareWithoutSides: the newest build of each program stands ready against the one
// before, and a comparison opens on its first suspect.
func TestCompareWithoutSides(t *testing.T) {
	p := newPage(t)
	p.visit("/compare")
	p.until("offers", `Array.from(document.querySelectorAll('[data-test=offer]'), e => e.innerText.replace(/\s+/g, ' ')).some(x => /engraved 3.5.1 → 3.6.0/.test(x))`)
	p.looked("compare-offers")
	p.do("one of them", chromedp.Click(`//a[@data-test="offer"][contains(., "inkraster")]`, chromedp.NodeVisible))
	p.until("its first suspect in focus", `document.querySelectorAll('[data-test=suspect]').length > 0 && document.querySelector('[data-test=both-card] h2')`)
}

// TestCompareByWhatStayedTheSame: takes of a service are put on one scale, and what it
// rests on is one click away.
func TestCompareByWhatStayedTheSame(t *testing.T) {
	p := newPage(t)
	p.visit("/takes")
	of := func(build string) string {
		return value[string](p, `fetch('/api/v1/takes?program=engraved&limit=1000').then(r => r.json()).then(r => r.takes.filter(t => t.workload.startsWith('attached') && t.build === '`+build+`' && t.host === 'bench-1').map(t => t.key).join(','))`)
	}
	p.visit("/compare?baseline=" + of("3.4.0") + "&candidate=" + of("3.5.0"))
	p.until("the verdict", `/slower/.test(document.querySelector('[data-test=verdict]')?.innerText)`)
	p.until("the scale", `/unit of unchanged work/.test(document.querySelector('h1').innerText)`)
	p.do("what it rests on", chromedp.Click(`//button[contains(., "rests on")]`, chromedp.NodeVisible))
	p.until("the functions", `document.querySelectorAll('[data-test=yardstick] li button').length > 10 && /times as much work/.test(document.querySelector('[data-test=yardstick]').innerText)`)
	p.looked("compare-yardstick")
}
