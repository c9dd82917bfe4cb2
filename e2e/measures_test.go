package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestMeasuresAreCompleted: what is begun in the field of other measures is looked for on
// the machine: its tracepoints, and the functions of the process that was picked.
func TestMeasuresAreCompleted(t *testing.T) {
	service(t)
	p := newPage(t)
	mustCollect(p)
	p.visit("/new")
	const field = "input[aria-label='Other measures']"
	const offered = `[...document.querySelectorAll('[data-test=measurables] li')].map(e => e.innerText)`
	p.until("processes", `document.querySelectorAll('[data-test=process]').length > 2`)
	p.do("beginning a tracepoint", chromedp.SendKeys(field, "tracepoint:sched:sched_process_fo"))
	p.until("it is offered", offered+`.some(t => t === 'tracepoint:sched:sched_process_fork')`)
	p.do("going to it", chromedp.SendKeys(field, kb.ArrowDown))
	p.until("it is in hand", `(id => id && document.getElementById(id)?.innerText === 'tracepoint:sched:sched_process_fork')(document.querySelector("`+field+`").getAttribute('aria-activedescendant'))`)
	p.do("choosing it", chromedp.SendKeys(field, kb.Enter))
	p.until("it stands there", `document.querySelector("`+field+`").value === 'tracepoint:sched:sched_process_fork'`)
	p.do("finding the service", chromedp.SendKeys("input[aria-label='Find a process']", "engraved-3.5.0 --drive"))
	p.until("it alone", `document.querySelectorAll('[data-test=process]').length === 1`)
	p.click("[data-test=process]")
	p.do("beginning a function", chromedp.SendKeys(field, " function:entelon/demo/engraved/slur.R"))
	p.until("its functions", offered+`.some(t => t.endsWith('slur.Route'))`)
	p.looked("measurables")
	p.do("choosing one", chromedp.Click(`//*[@data-test="measurables"]//li[contains(., "slur.Route")]`, chromedp.NodeVisible))
	p.until("both stand there", `/^tracepoint:sched:sched_process_fork function:entelon\/demo\/engraved\/slur\.Route$/.test(document.querySelector("`+field+`").value)`)
}
