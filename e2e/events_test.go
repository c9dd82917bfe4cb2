package e2e

import (
	"fmt"
	"net/url"
	"os"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestEventsLens: the one long sleep among short ones is the first row; its step of the durations
// and its thread narrow the scope; its stack leads to functions; other kinds are a click away.
func TestEventsLens(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("where threads wait is seen by root")
	}
	p := newPage(t)
	p.visit("/takes/" + taken(p, "dozes", "cpu", "waiting", "syscalls") + "?lens=events")
	p.until("the long sleep first", `/^\s*[0-9.]+\s*s\s+1[5-9][0-9]\s*ms/.test(document.querySelector('[data-test=event]')?.innerText ?? '') && document.querySelector('[data-test=event]').innerText.includes('sleeps')`)
	p.until("both kinds", `[...document.querySelectorAll('[data-test=event-kind]')].map(e => e.innerText.split(/\s*[0-9]/)[0].trim()).join() === 'waits,system calls'`)
	p.until("how long they are", `document.querySelectorAll('[data-test=size]').length > 4`)
	p.key(kb.ArrowDown)
	p.until("its stack", `document.querySelector('[data-test=event-stack]')?.innerText.includes('long_doze')`)
	p.looked("events")
	if focus := p.query("focus"); focus != "doze" && focus != "long_doze" {
		t.Errorf("the focus is on %q", focus)
	}
	p.do("who called it", chromedp.Click(`//*[@data-test="event-stack"]//button[normalize-space()="long_doze"]`, chromedp.NodeVisible))
	p.until("the focus on it", `new URLSearchParams(location.search).get('focus') === 'long_doze'`)

	p.do("the longest step", chromedp.Click(`[data-test=size]:last-child`, chromedp.NodeVisible))
	p.until("the scope", `/^waiting at least 1[0-9]* ns and waiting under 2[0-9]* ns$/.test(new URLSearchParams(location.search).get('scope'))`)
	p.until("one row", `document.querySelectorAll('[data-test=event]').length === 1`)

	p.visit(value[string](p, "location.pathname") + "?lens=events&scope=" + url.QueryEscape("function is short_doze"))
	p.until("the short ones alone", `document.querySelectorAll('[data-test=event]').length >= 20 && !/1[0-9][0-9]\s*ms/.test(document.querySelector('[data-test=event]').innerText)`)
	p.key(kb.ArrowDown)
	p.until("a choice", `document.querySelector('[data-test=event-stack]')`)
	p.do("only this thread", chromedp.Click(`//button[normalize-space()="only this thread"]`, chromedp.NodeVisible))
	p.until("the thread in the scope", `new URLSearchParams(location.search).get('scope') === 'function is short_doze and thread is "dozes"'`)
	p.until("the choice kept", `document.querySelector('[data-test=event-stack]')`)
	p.do("only this function", chromedp.Click(`//button[normalize-space()="only this function"]`, chromedp.NodeVisible))
	p.until("the function in the scope", `/ and function is "?\w+"?$/.test(new URLSearchParams(location.search).get('scope'))`)
	p.do("in order of time", chromedp.Click(`//button[normalize-space()="in order of time"]`, chromedp.NodeVisible))
	p.until("the address", `new URLSearchParams(location.search).get('eventsort') === 'time'`)
	p.until("the order", `(rows => rows.length > 5 && rows.every((x, i) => !i || rows[i - 1] <= x))([...document.querySelectorAll('[data-test=event]')].map(e => parseFloat(e.innerText)))`)
	p.do("system calls", chromedp.Click(`//*[@data-test="event-kind"][contains(., "system calls")]`, chromedp.NodeVisible))
	p.until("system calls", `[...document.querySelectorAll('[data-test=event]')].some(e => e.innerText.includes('nanosleep'))`)

	p.visit("/takes/" + takeOf(t, "3.5.0") + "?lens=events")
	p.until("what to do where there are none", fmt.Sprintf(`document.querySelector('[data-test=no-events]')?.innerText.includes(%q)`, "-m waiting"))
}

// TestWhatEventsAreAbout: amounts can be of any number that is known of events; the sums of a file, a step
// of the sizes and what is told of a row narrow the scope, in this lens and in others.
func TestWhatEventsAreAbout(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("what events are about is seen by root")
	}
	p := newPage(t)
	key := taken(p, "asks", "cpu", "waiting", "syscalls", "disk", "faults", "allocations", "function:engrave(bars=arg1,ink=arg2)", "tracepoint:sched:sched_process_exec")
	p.visit("/takes/" + key + "?lens=events&events=syscalls")
	p.until("what calls were about", `[...document.querySelectorAll('[data-test=event-about]')].some(e => e.innerText.includes('/plates'))`)
	p.do("what amounts are of", chromedp.Click(`[aria-label^="Amounts are of"]`, chromedp.NodeVisible))
	p.do("bytes", chromedp.Click(`//*[@role="option"][normalize-space()="bytes"]`, chromedp.NodeVisible))
	p.until("the largest first", `/48\.8\s*KiB/.test(document.querySelector('[data-test=event]')?.innerText ?? '')`)
	p.until("sums", `document.querySelectorAll('[data-test=text-sum]').length > 2`)
	p.do("added up by", chromedp.Click(`[aria-label^="Added up"]`, chromedp.NodeVisible))
	p.do("file", chromedp.Click(`//*[@role="option"][normalize-space()="by file"]`, chromedp.NodeVisible))
	p.until("the plates first", `document.querySelector('[data-test=text-sum]')?.innerText.includes('/plates')`)
	p.do("a row", chromedp.Click(`[data-test=event]`, chromedp.NodeVisible))
	p.until("all of it", `document.querySelector('[data-test=event-told]')?.innerText.includes('/plates')`)
	p.looked("events-about")
	p.do("only these", chromedp.Click(`[data-test=text-sum]`, chromedp.NodeVisible))
	p.until("the scope", `/^in events where \(kind is "?syscalls"? and file is ".*\/plates"\)$/.test(new URLSearchParams(location.search).get('scope'))`)
	p.until("these alone", `[...document.querySelectorAll('[data-test=event-about]')].every(e => e.innerText.includes('/plates'))`)
	p.do("the largest step", chromedp.Click(`[data-test=size]:last-child`, chromedp.NodeVisible))
	p.until("two conditions", `document.querySelectorAll('[data-test=event]').length < 60 && /bytes at least 32768 B and bytes under 65536 B/.test(new URLSearchParams(location.search).get('scope'))`)
	p.until("the words of it", `document.body.innerText.includes('events where kind is syscalls and file is')`)
	p.visit("/takes/" + key + "?lens=events&events=faults")
	p.until("faults by file", `[...document.querySelectorAll('[data-test=text-sum]')].some(e => e.innerText.includes('libc.so.6'))`)
	p.looked("events-faults")
	p.visit("/takes/" + key + "?lens=events&events=" + url.QueryEscape("function:engrave") + "&eventcolumn=ink")
	p.until("arguments", `[...document.querySelectorAll('[data-test=event]')].some(e => /−900/.test(e.innerText) && /bars\s+9/.test(e.innerText))`)
	p.looked("events-arguments")
	p.visit("/takes/" + key + "?lens=hot&measure=disk-bytes&scope=" + url.QueryEscape("in events where kind is syscalls and name is fsync"))
	p.until("another lens", `document.body.innerText.includes('in') && document.querySelector('main')?.innerText.includes('plates')`)
}
