package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestExactTake: calls stand beside costs in every lens, times beside lines, what samples say on
// the card, and no word about samples where there are none.
func TestExactTake(t *testing.T) {
	p := newPage(t)
	key := exactTake(t, "1.3.0")
	const blend = "ink%3A%3APage%3A%3Ablend%28int%2C+int%2C+int%2C+unsigned+char%29"
	p.visit("/takes/" + key)
	p.says("instructions")
	full := value[string](p, `fetch('/api/v1' + location.pathname + '/hot').then(r => r.json()).then(h => h.functions.find(f => f.short === 'ink::Page::blend').name)`)
	calls := value[float64](p, `fetch('/api/v1' + location.pathname + '/hot').then(r => r.json()).then(h => h.calls[h.functions.findIndex(f => f.short === 'ink::Page::blend')])`)
	if calls < 1000 {
		t.Fatalf("blend was called %v times", calls)
	}
	p.visit("/takes/" + key + "?lens=hot&focus=" + value[string](p, fmt.Sprintf("encodeURIComponent(%q)", full)))
	p.until("its row", `[...document.querySelectorAll('[data-test=hot-full]')].some(e => e.innerText.includes('ink::Page::blend'))`)
	spaced := fmt.Sprintf(`(s => s.replace(/\s/g, '').includes(%q))`, fmt.Sprint(int64(calls)))
	p.until("its calls in the row", fmt.Sprintf(`[...document.querySelectorAll('[data-test=hot-full]')].some(e => e.innerText.includes('ink::Page::blend') && %s(e.innerText))`, spaced))
	p.until("the heads", `['Calls', 'Self a call'].every(x => [...document.querySelectorAll('[role=columnheader]')].some(e => e.innerText.trim() === x)) && ![...document.querySelectorAll('[role=columnheader]')].some(e => e.innerText.trim() === 'Samples')`)
	p.looked("exact-hot")
	p.key("3")
	p.until("calls in paths", `[...document.querySelectorAll('[role=columnheader]')].some(e => e.innerText.trim() === 'Calls') && document.querySelectorAll('[data-test=path]').length > 3`)
	p.key("u")
	p.until("all calls, from the leaves", fmt.Sprintf(`[...document.querySelectorAll('[data-test=path]')].some(e => e.innerText.includes('ink::Page::blend') && %s(e.innerText))`, spaced))
	p.looked("exact-paths")
	p.key("4")
	p.until("calls on edges", `[...document.querySelectorAll('[data-test=edge-calls]')].length > 0`)
	p.looked("exact-neighbours")
	p.key("5")
	p.until("times beside lines", `[...document.querySelectorAll('[data-test=times]')].filter(e => e.innerText.trim() !== '').length > 2`)
	p.until("calls on the card", fmt.Sprintf(`%s(document.querySelector('[data-test=card-calls]')?.innerText ?? '')`, spaced))
	p.until("what samples say", `document.querySelector('[data-test=other-kind]')?.innerText.includes('of the CPU time')`)
	p.looked("exact-lines")
	if value[bool](p, `document.querySelector('[data-test=card]').innerText.includes(' samples;')`) {
		t.Error("the card speaks of samples")
	}
	p.key("1")
	p.until("the flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)
	p.looked("exact-flame")
	p.visit("/takes/" + takeOf(t, "1.3.0") + "?focus=" + blend)
	p.until("what an exact run says", `document.querySelector('[data-test=other-kind]')?.innerText.includes('of all instructions')`)
	p.looked("exact-beside")
	// Compared, the difference is split into calls and cost a call; and the ledger has exact takes as
	// a workload of their own.
	p.visit("/compare?baseline=" + exactTake(t, "1.2.0") + "&candidate=" + key + "&focus=" + blend)
	p.until("what is of calls", `document.querySelector('[data-test=split]')?.innerText.includes('by the number of calls')`)
	p.until("calls on both sides", `/^[0-9\s]+→[0-9\s]+/.test(document.querySelector('[data-test=both-calls] p')?.innerText.replace(/\n/g, '') ?? '')`)
	p.until("no samples", `document.body.innerText.includes('every event counted') && !document.body.innerText.includes(' samples')`)
	p.looked("exact-compare-builds")
	workload := value[float64](p, fmt.Sprintf(`fetch('/api/v1/takes/%s').then(r => r.json()).then(d => d.take.workload_id)`, key))
	p.visit(fmt.Sprintf("/programs/inkraster?workload=%v", workload))
	p.until("the ledger of exact runs", `document.body.innerText.includes('ink::Page::spread') && document.body.innerText.includes('exact run')`)
	p.until("no interval", `document.body.innerText.includes('counted in exact runs') && !document.body.innerText.includes('interval')`)
	p.until("what the takes counted", `document.querySelector('[aria-label=Takes]').innerText.replace(/\s/g, ' ').includes(' instructions ')`)
	p.until("a tint for 14 %", `[...document.querySelectorAll('[data-test=ledger-row]')].find(r => r.innerText.includes('ink::Page::blend')).querySelectorAll('[role=cell]')[1].style.background`)
	p.looked("exact-ledger")
}

// TestExactRunFromThePage: a command is run exactly, and the take opens when it is whole.
func TestExactRunFromThePage(t *testing.T) {
	p := newPage(t)
	mustCollect(p)
	p.visit("/new")
	// What is chosen here is kept for the next take, which others make.
	defer value[any](p, `Object.keys(localStorage).filter(k => k.startsWith('entelon-take') || k.startsWith('entelon-command')).forEach(k => localStorage.removeItem(k))`)
	p.do("choosing a command", chromedp.Click(`//button[normalize-space()="A command"]`, chromedp.NodeVisible))
	p.do("writing it", chromedp.SendKeys("input[placeholder*='engraved']", `sh -c 'i=0; while [ $i -lt 3000 ]; do i=$((i+1)); done'`))
	p.click("[data-test=exact]")
	p.until("what an exact run is", `document.body.innerText.includes('counts every instruction') && !document.querySelector('[aria-label="Samples a second"]')`)
	p.do("models", chromedp.Click(`//label[contains(., "Model caches")]/input`, chromedp.NodeVisible))
	p.do("of a machine that is not this one", chromedp.SendKeys(`[aria-label="Sizes of both caches"]`, "16K/4/64, 512K/8/64"))
	p.looked("exact-new")
	p.click("[data-test=start]")
	p.until("it counts", `location.pathname.startsWith('/running/') && document.body.innerText.includes('It runs in the emulator') || location.pathname.startsWith('/takes/')`)
	p.looked("exact-running")
	p.until("the take", `location.pathname.startsWith('/takes/') && document.body.innerText.includes('instructions · every event counted')`)
	key := strings.TrimPrefix(value[string](p, "location.pathname"), "/takes/")
	defer p.remove(key)
	p.until("calls on the index", `document.querySelector('[data-test=hot-row]')?.title.includes(' calls')`)
	p.do("its facts", chromedp.Click(`//button[normalize-space()="Facts"]`, chromedp.NodeVisible))
	p.says("run twice")
	p.says("caches of 16K/4/64 and 512K/8/64")
	p.looked("exact-facts")
	p.key(kb.Escape)
	p.do("again", chromedp.Click(`//button[contains(normalize-space(), "Again")]`, chromedp.NodeVisible))
	p.until("another take", fmt.Sprintf(`location.pathname.startsWith('/takes/') && location.pathname !== '/takes/%s' && document.body.innerText.includes('instructions · every event counted')`, key))
	second := strings.TrimPrefix(value[string](p, "location.pathname"), "/takes/")
	defer p.remove(second)
	total := `fetch('/api/v1/takes/%s').then(r => r.json()).then(d => d.measures[0].total)`
	if a, b := value[float64](p, fmt.Sprintf(total, key)), value[float64](p, fmt.Sprintf(total, second)); a != b || a < 100_000 {
		t.Errorf("%v instructions, and %v when it was taken again", a, b)
	}
	p.visit("/programs")
	p.until("what its builds cost", `document.querySelector('section[aria-label=sh]')?.innerText.includes('Instructions, median')`)
	p.until("nor those that have time", `document.querySelector('section[aria-label=engraved]')?.innerText.includes('CPU time, median')`)
	p.looked("exact-programs")
	p.visit(fmt.Sprintf("/compare?baseline=%s&candidate=%s", key, second))
	p.says("no change")
	p.looked("exact-compare")
}
