package e2e

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// The newest takes of the four demo programs, each with a function that costs
// something in it, and one that calls it.
var strange = []struct{ build, hot, caller string }{
	{"3.5.0", "slur.(*Skyline).Height", "slur.clearance"},
	{"1.3.0", "ink::mixed", "ink::Page::blend"},
	{"1.5.0", "strain", "search"},
	{"2.2.0", "staff", ""},
}

// TestEveryLens looks at each demo program through each lens, with the focus
// going along, by the keyboard alone.
func TestEveryLens(t *testing.T) {
	for _, x := range strange {
		t.Run(x.build, func(t *testing.T) {
			p := newPage(t)
			p.visit("/takes/" + takeOf(t, x.build))
			p.says("100 % =")
			full := value[string](p, fmt.Sprintf(`fetch('/api/v1' + location.pathname + '/hot').then(r => r.json()).then(h => h.functions.find(f => f.short === %q).name)`, x.hot))
			p.visit(value[string](p, "location.pathname") + "?focus=" + url.QueryEscape(full))
			p.until("the flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)

			p.key("2")
			p.until("hot functions in full", `document.querySelectorAll('[data-test=hot-full]').length > 5`)
			p.until("the row of the focus", fmt.Sprintf(`[...document.querySelectorAll('[data-test=hot-full]')].some(e => e.title === %q)`, full))
			p.key(kb.Enter)
			p.until("its callers in place", `document.querySelector('[data-test=caller]')`)
			if x.caller != "" && !value[bool](p, fmt.Sprintf(`[...document.querySelectorAll('[data-test=caller]')].some(e => e.innerText.includes(%q))`, x.caller)) {
				t.Errorf("%s is not among the callers: %s", x.caller, value[string](p, `Array.from(document.querySelectorAll('[data-test=caller]'), e => e.innerText).join('; ')`))
			}

			total := value[float64](p, `fetch('/api/v1' + location.pathname + '/threads').then(r => r.json()).then(x => x.threads.length)`)
			p.do("the grouping", chromedp.Click(`button[aria-label="Grouping: not grouped"]`, chromedp.NodeVisible))
			p.do("by thread", chromedp.Click(`//*[@role="option" and normalize-space()="by thread"]`, chromedp.NodeVisible))
			p.until("a thread with its functions", `document.querySelectorAll('[data-test=thread]').length > 0 && document.querySelectorAll('[data-test=hot-full]').length > 0`)
			p.do("the first thread closed", chromedp.Click(`[data-test=thread]`, chromedp.NodeVisible))
			p.until("all threads", fmt.Sprintf(`document.querySelectorAll('[data-test=thread]').length >= Math.min(%v, 12) && document.querySelectorAll('[data-test=hot-full]').length === 0`, total))

			p.key("3")
			p.until("paths", `document.querySelectorAll('[data-test=path]').length > 3`)
			p.until("where the cost spreads out", `document.querySelector('[data-test=spread]')`)
			p.key("u")
			p.until("paths from the leaves", `new URLSearchParams(location.search).get('paths') === 'leaves' && document.querySelectorAll('[data-test=path]').length > 3`)
			hot := value[string](p, `fetch('/api/v1' + location.pathname + '/hot').then(r => r.json()).then(h => h.functions[0].short)`)
			p.until("the hottest function first", fmt.Sprintf(`document.querySelector('[data-test=path]').innerText.includes(%q)`, hot))

			p.key("4")
			p.until("neighbours", `document.querySelectorAll('[data-test=neighbours] [role=button]').length > 1`)
			p.do("the whole graph", chromedp.Click(`//button[normalize-space()="whole graph"]`, chromedp.NodeVisible))
			p.until("the graph", `document.querySelectorAll('[data-test=graph] [role=button]').length > 3`)
			p.until("what is left out", `document.querySelector('[data-test=graph-left-out]')?.innerText.includes('left out')`)
			p.fitsAndZooms()
			p.do("areas", chromedp.Click(`//button[normalize-space()="nested areas"]`, chromedp.NodeVisible))
			p.until("areas", `document.querySelectorAll('[data-test=areas] [role=button]').length > 3`)
			p.key("5")
			p.until("the line where it begins", `document.querySelector('[data-test=line].bg-focus-wash')`)
			p.until("lines with their cost and the source", `[...document.querySelectorAll('[data-test=line]')].some(e => /[0-9.]+\s%/.test(e.innerText) && e.querySelector('.code').innerText.trim() !== '') || document.querySelector('[data-test=no-line]')`)
			if x.build != "2.2.0" && value[bool](p, `!!document.querySelector('[data-test=no-line]') && ![...document.querySelectorAll('[data-test=line]')].some(e => /[0-9.]+\s%/.test(e.innerText))`) {
				t.Error("no line is known") // of code that V8 makes, none is
			}
			p.key("1")
			p.until("the flame again", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)
			if got := p.query("focus"); got != full {
				t.Errorf("the focus became %q", got)
			}
		})
	}
}

// fitsAndZooms: the call graph is all in view when it opens, is zoomed by the keyboard and
// by the wheel, moved by hand, and fits its room again.
func (p *page) fitsAndZooms() {
	p.t.Helper()
	const (
		all  = `(box => [...document.querySelectorAll('[data-test=graph] [role=button]')].every(e => (r => r.left >= box.left - 1 && r.right <= box.right + 1 && r.top >= box.top - 1 && r.bottom <= box.bottom + 1)(e.getBoundingClientRect())))(document.querySelector('[data-test=graph]').getBoundingClientRect())`
		view = `document.querySelector('[data-test=graph]').getAttribute('viewBox')`
		size = `document.querySelector('[data-test=graph] [role=button] rect').getBoundingClientRect().width`
		fits = all + ` && document.querySelector('[data-test=fit]').getAttribute('aria-pressed') === 'true'`
	)
	p.until("all of the graph", fits)
	p.until("a graph at rest", `new Promise(done => { const before = `+view+`; setTimeout(() => done(`+view+` === before), 300) })`)
	p.looked("graph")
	before := value[float64](p, size)
	p.key("+")
	p.key("+")
	p.until("a closer look", fmt.Sprintf("%s > 1.5 * %v", size, before))
	closer := value[string](p, view)
	value[any](p, `(e => { const at = (x, y, type, buttons) => e.dispatchEvent(new PointerEvent(type, { clientX: x, clientY: y, pointerId: 1, button: 0, buttons, bubbles: true })); const r = e.getBoundingClientRect(); e.setPointerCapture = () => {}; at(r.left + 90, r.top + 90, 'pointerdown', 1); at(r.left + 120, r.top + 130, 'pointermove', 1); at(r.left + 120, r.top + 130, 'pointerup', 0) })(document.querySelector('[data-test=graph]').parentElement)`)
	p.until("another part", fmt.Sprintf("%s !== %q", view, closer))
	p.key("z")
	p.until("all of it again", fits)
	value[any](p, `(e => { const r = e.getBoundingClientRect(); e.dispatchEvent(new WheelEvent('wheel', { deltaY: -300, clientX: r.left + 9, clientY: r.top + 9, bubbles: true, cancelable: true })) })(document.querySelector('[data-test=graph]'))`)
	p.until("a closer look by the wheel", fmt.Sprintf("%s > 1.5 * %v", size, before))
	p.click("[data-test=fit]")
	p.until("all of it again", fits)
}

// TestScopeIsTyped: the expression is completed, wrong characters are pointed at
// and fixed, and the sentence, the figures and every lens follow it.
func TestScopeIsTyped(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	const whole = `document.querySelector('[data-test=whole]').innerText`
	before := value[string](p, whole)
	p.key("=")
	p.until("the editor", `document.activeElement?.getAttribute('aria-label') === 'Scope expression'`)
	field := `[aria-label="Scope expression"]`
	p.do("typing", chromedp.SendKeys(field, "fun"))
	p.until("a field", `[...document.querySelectorAll('#scope-proposals li')].some(e => e.innerText === 'function')`)
	p.do("taking it", chromedp.SendKeys(field, kb.Tab))
	p.until("the word", `document.activeElement.value === 'function '`)
	p.do("going on", chromedp.SendKeys(field, "is slur.Rou"))
	p.until("a name of the take", `[...document.querySelectorAll('#scope-proposals li')].some(e => e.innerText.startsWith('slur.Route'))`)
	p.do("taking it", chromedp.SendKeys(field, kb.Tab))
	p.until("the name", `document.activeElement.value === 'function is slur.Route '`)
	p.do("a mistake", chromedp.SendKeys(field, "adn idle"))
	p.until("what is wrong", `document.querySelector('[data-test=scope-editor] [role=alert]')?.innerText.includes('is not expected here')`)
	p.click(`[data-test=correction]`)
	p.until("the correction", `document.querySelector('[aria-label="Scope expression"]').value === 'function is slur.Route and idle'`)
	p.do("instead", chromedp.SendKeys(field, strings.Repeat(kb.Backspace, len("idle"))+"not idle"))
	p.until("what it would keep", `/^keeps [0-9.]+\s% · [0-9\s]+ of [0-9\s]+ samples$/.test(document.querySelector('[data-test=would-keep]')?.innerText)`)
	would := value[string](p, `document.querySelector('[data-test=would-keep]').innerText.match(/· ([0-9\s]+) of/)[1]`)
	p.do("applying it", chromedp.SendKeys(field, kb.Enter))
	p.until("the address", `new URLSearchParams(location.search).get('scope') === 'function is slur.Route and not idle'`)
	p.until("the sentence", `[...document.querySelectorAll('[data-test=condition]')].map(e => e.innerText.replace(/\s+/g, ' ').trim()).join(', ') === 'passing through slur.Route, idle left out'`)
	p.until("less", fmt.Sprintf(`%s !== %q && %s.includes('left out')`, whole, before, whole))
	narrowed := value[string](p, whole)
	if !strings.Contains(narrowed, would+" samples") {
		t.Errorf("it was to keep %s samples, and shows %s", would, narrowed)
	}
	p.key("i")
	p.until("idle back in", `new URLSearchParams(location.search).get('scope') === 'function is slur.Route'`)
	p.key("3")
	p.until("paths of it alone", `[...document.querySelectorAll('[data-test=path]')].some(e => e.innerText.includes('slur.Route'))`)
	p.click(`[aria-label="Remove: function is slur.Route"]`)
	p.until("all of it", fmt.Sprintf(`%s === %q`, whole, before))
	if narrowed == before {
		t.Error("the scope changed nothing")
	}
	// A name that the take does not have is said, with the nearest.
	p.visit(value[string](p, "location.pathname") + "?scope=" + url.QueryEscape("function is slur.Rote"))
	p.says("the nearest is slur.Route")
}

// TestWhatIsShownGoesAlong: exports obey the scope, and hold what the page shows.
func TestWhatIsShownGoesAlong(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0") + "?scope=" + url.QueryEscape("function is slur.Route") + "&fold=foreign")
	p.says("passing through")
	p.do("sharing", chromedp.Click(`//button[normalize-space()="Share"]`, chromedp.NodeVisible))
	p.until("the menu", `document.querySelectorAll('[role=menu] a').length === 5`)
	for _, x := range []struct{ ending, holds, lacks string }{
		{"report.html", "only samples where <code>function is slur.Route</code>", "http://"},
		{"picture.svg", "slur.Route", "beam.Group"},
		{"table.csv", "slur.Route", "beam.Group"},
		{"stacks.txt", "slur.Route", "beam.Group"},
		{"data.json", `"scope": "function is slur.Route"`, "http://"},
	} {
		text := value[string](p, fmt.Sprintf(`fetch([...document.querySelectorAll('[role=menu] a')].find(a => a.pathname.endsWith('/%s')).href).then(r => r.text())`, x.ending))
		if !strings.Contains(text, x.holds) || strings.Contains(strings.ReplaceAll(text, "http://www.w3.org/", ""), x.lacks) {
			t.Errorf("%s: it lacks %q or has %q", x.ending, x.holds, x.lacks)
		}
	}
}

// TestReportOpensFromAFile: with no server and no network its flame can be dived
// into and searched.
func TestReportOpensFromAFile(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	report := value[string](p, `fetch('/api/v1' + location.pathname + '/report.html').then(r => r.text())`)
	q := newPage(t)
	q.do("opening it", chromedp.Navigate("file://"+written(t, "report.html", report)))
	q.until("frames", `document.querySelectorAll('#flame button').length > 40`)
	frames := value[int](q, `document.querySelectorAll('#flame button').length`)
	q.until("a dive", `[...document.querySelectorAll('#flame button')].find(e => e.textContent === 'slur.Route')?.click() === undefined`)
	q.until("less than before", fmt.Sprintf(`document.querySelectorAll('#flame button').length < %d`, frames))
	q.do("searching", chromedp.SendKeys("#words", "skyline"))
	q.until("what matches cover", `/frames cover [0-9.]+ %/.test(document.getElementById('found').textContent)`)
	q.do("the whole", chromedp.Click("#whole"))
	q.until("all frames", fmt.Sprintf(`document.querySelectorAll('#flame button').length === %d`, frames))
}
