package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// TestSpansStandInLanes: in the demo's take of the platesetter the plates stand below the states of who
// exposed them, on the take's own time; pointing at one tells it, and a click makes its time the choice.
func TestSpansStandInLanes(t *testing.T) {
	p := newPage(t)
	p.visit("/takes?program=platesetter")
	p.visit("/takes/" + value[string](p, `fetch('/api/v1/takes?program=platesetter').then(r => r.json()).then(r => r.takes[0].key)`) + "?lens=lanes&when=1000000000-1800000000")
	p.until("lanes", `document.querySelectorAll('[data-test=lane]').length > 4`)
	p.until("how many ended a second", `/≤ [0-9.]+\/s/.test(document.querySelector('[data-test=lane-rate]')?.innerText ?? '') && /≤ [0-9.]+\/s/.test(document.querySelector('[data-test=ribbon-rate]')?.innerText ?? '')`)
	p.do("of what", chromedp.Click(`[data-test=lane-rate] button`, chromedp.NodeVisible))
	p.do("plates", chromedp.Click(`//*[@data-test="lane-rate"]//*[@role="option"][normalize-space()="expose"]`, chromedp.NodeVisible))
	p.until("plates a second", `document.querySelector('[data-test=ribbon-rate]')?.innerText.includes('expose') && new URLSearchParams(location.search).get('span') === 'expose'`)
	p.looked("lanes-spans")
	rows := `fetch('/api/v1/takes/' + location.pathname.split('/')[2] + '/lanes?begin=1000000000&end=1800000000&parts=800&count=60').then(r => r.json())`
	if n := value[int](p, rows+`.then(d => d.rows.reduce((n, r) => n + r.spans.filter((_, i) => i % 6 === 3).filter(k => d.span_names[k] === 'expose').length, 0))`); n < 8 || n > 16 {
		t.Errorf("%d plates are exposed in 0.8 s", n)
	}
	value[int](p, `[...document.querySelectorAll('[data-test=lane]')].map(e => e.closest('.overflow-y-auto')).find(e => e).scrollTop = 1e6`)
	p.looked("lanes-spans-end")
}
