package e2e

import (
	"fmt"
	"os"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestSpansLens: the slow ones among many spans are seen, and what they were slow for is a key away.
func TestSpansLens(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("functions are followed by root")
	}
	p := newPage(t)
	key := taken(p, "engravers", "cpu", "waiting", "goroutines", "span:main.engrave", "span:main.save")
	p.visit("/takes/" + key + "?lens=spans")
	p.until("the names", `document.querySelectorAll('[data-test=span-name]').length === 2`)
	p.do("those of engrave", chromedp.Click(`//*[@data-test="span-name"][contains(., "engrave")]`, chromedp.NodeVisible))
	p.until("them", `new URLSearchParams(location.search).get('span') === 'main.engrave'`)
	p.until("a picture", `(c => c && c.getContext('2d').getImageData(0, 0, c.width, c.height).data.some((v, i) => i % 4 === 0 && v < 90))(document.querySelector('[data-test=span-chart]'))`)
	p.looked("spans")
	p.key("h")
	p.until("what the slow ones were slow for", `(t => t.includes('sleeps') && t.includes('main.save'))(document.querySelector('[data-test=span-blame] tbody tr')?.innerText ?? '')`)
	p.looked("spans-blame")
	p.do("as a flame", chromedp.Click(`(//*[@data-test="blame-as"])[2]`, chromedp.NodeVisible))
	p.until("the flame", `(c => c && c.height > 60 && c.getContext('2d').getImageData(0, 0, c.width, c.height).data.some((v, i) => i % 4 === 0 && v < 90))(document.querySelector('[data-test=blame-flame] canvas'))`)
	p.looked("spans-flame")

	p.do("what the others do not", chromedp.Click(`(//*[@data-test="blame-as"])[3]`, chromedp.NodeVisible))
	p.until("saver's sleep, which only the slow ones have", `(t => t.includes('main.save') && t.includes('sleeps') && t.includes('+'))(document.querySelector('[data-test=span-contrast] tbody tr')?.innerText ?? '')`)
	p.looked("spans-others")

	// The slowest one, by the keyboard, and its own path.
	p.key("]")
	p.until("one", `document.querySelector('[data-test=lane-path] [data-test=blame]')`)
	p.looked("spans-one")
	p.do("it in the lanes", chromedp.Click(`[data-test=span-lanes]`, chromedp.NodeVisible))
	p.until("the lanes", `new URLSearchParams(location.search).get('lens') === 'lanes' && document.querySelector('[data-test=lane-path] [data-test=blame]')`)
	p.until("goroutines", `document.body.innerText.includes(', goroutines')`)
	p.looked("spans-lanes")

	// A dot, by the pointer.
	p.visit("/takes/" + key + "?lens=spans&span=main.engrave")
	type spot struct{ X, Y float64 }
	p.until("the drawing", `document.querySelector('[data-test=span-chart]')?.clientWidth > 0`)
	slowest := value[int64](p, fmt.Sprintf(`fetch('/api/v1/takes/%s/spans?name=main.engrave').then(r => r.json()).then(d => Math.max(...d.dots.filter((v, i) => i %% 4 === 1)))`, key))
	if slowest < 2_000_000 {
		t.Fatalf("the slowest took %d ns", slowest)
	}
	at := value[spot](p, fmt.Sprintf(`fetch('/api/v1/takes/%s/spans?name=main.engrave').then(r => r.json()).then(d => {
		const c = document.querySelector('[data-test=span-chart]').getBoundingClientRect()
		let n = 0
		for (let i = 0; i < d.dots.length; i += 4) if (d.dots[i + 1] > d.dots[n + 1]) n = i
		const low = Math.log10(d.percentiles[1]) - 0.08, high = Math.log10(d.percentiles.at(-1)) + 0.08
		return { X: c.left + 62 + d.dots[n] / d.duration_ns * (c.width - 62 - 14 - 150), Y: c.top + 34 + (1 - (Math.log10(d.dots[n + 1]) - low) / (high - low)) * (c.height - 54) }
	})`, key))
	p.do("the slowest dot", chromedp.MouseClickXY(at.X, at.Y))
	p.until("its path", `document.querySelector('[data-test=lane-path] [data-test=blame]')`)
	p.key(kb.Escape)
	p.until("none", `!document.querySelector('[data-test=lane-path]')`)

	// Some, by a drag over the upper bars: everything that happens in them is the scope.
	value[any](p, fmt.Sprintf(`(el => {
		const at = (type, x, y) => el.dispatchEvent(new PointerEvent(type, { clientX: x, clientY: y, bubbles: true, button: 0, pointerId: 1 }))
		el.setPointerCapture = () => {}
		const r = el.getBoundingClientRect()
		at('pointerdown', r.right - 40, r.top + 36)
		at('pointermove', r.right - 30, %[1]f + 12)
		at('pointerup', r.right - 30, %[1]f + 12)
	})(document.querySelector('[data-test=span-chart]'))`, at.Y))
	p.do("only what happens in them", chromedp.Click(`[data-test=span-during]`, chromedp.NodeVisible))
	p.until("the scope", `(new URLSearchParams(location.search).get('scope') ?? '').replaceAll('"', '').startsWith('during span main.engrave longer than')`)
	p.until("it in words", `document.body.innerText.includes('during')`)
	p.until("the slow ones alone", `(n => n > 0 && n < 100)(Number(document.querySelector('[data-test=span-name] td:nth-child(2)')?.innerText))`)
	p.visit("/takes/" + takeOf(t, "3.5.0") + "?lens=spans")
	p.until("how to have some", `document.querySelector('[data-test=no-spans]')?.innerText.includes('span:')`)
	p.looked("spans-none")
}
