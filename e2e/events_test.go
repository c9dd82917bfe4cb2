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
