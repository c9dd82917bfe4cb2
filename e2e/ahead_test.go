package e2e

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// asked counts what the page asked for, of one kind and in a scope that begins with
// a text.
func asked(kind, scope string) string {
	return fmt.Sprintf(`performance.getEntriesByType('resource').filter(e => new URL(e.name).pathname.endsWith(%q) && (new URL(e.name).searchParams.get('scope') ?? '').startsWith(%q)).length`, kind, scope)
}

// TestWhatComesNextIsAskedForAhead: the picture of a scope that is typed, or of a part
// of the time under a pointer that rests, is there before it is chosen, and is not
// asked for again then; what other lenses begin with comes when nothing happens.
func TestWhatComesNextIsAskedForAhead(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	p.until("the beginning of other lenses", asked("/paths", "")+" === 1")
	p.key("3")
	p.until("paths", `document.querySelectorAll('[data-test=path]').length > 5`)
	if n := value[int](p, asked("/paths", "")); n != 1 {
		t.Errorf("what was there already was asked for %d times", n)
	}
	p.key("1")
	p.until("the flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)

	const typed = "function is slur.Route"
	p.key("=")
	p.until("the editor", `document.activeElement?.getAttribute('aria-label') === 'Scope expression'`)
	p.do("typing", chromedp.SendKeys(`[aria-label="Scope expression"]`, typed))
	p.until("what it would keep", `document.querySelector('[data-test=would-keep]')`)
	p.until("its picture, ahead", asked("/flame", typed)+" === 1")
	if value[bool](p, `new URLSearchParams(location.search).has('scope')`) {
		t.Error("the scope changed while it was typed")
	}
	p.do("applying it", chromedp.SendKeys(`[aria-label="Scope expression"]`, kb.Enter))
	p.until("the scope, without the editor", fmt.Sprintf(`new URLSearchParams(location.search).get('scope') === %q && !document.querySelector('[data-test=scope-editor]')`, typed))
	p.until("the list in it", asked("/hot", typed)+" === 1")
	if n := value[int](p, asked("/flame", typed)); n != 1 {
		t.Errorf("the picture of what was typed was asked for %d times", n)
	}

	// A mistake is not applied, and what was typed stays.
	p.key("=")
	p.until("the editor", `document.activeElement?.getAttribute('aria-label') === 'Scope expression'`)
	p.do("a mistake", chromedp.SendKeys(`[aria-label="Scope expression"]`, " adn"+kb.Enter))
	p.until("what is wrong", `document.querySelector('[data-test=scope-editor] [role=alert]')`)
	if got := value[string](p, `document.querySelector('[aria-label="Scope expression"]').value`); got != typed+" adn" || p.query("scope") != typed {
		t.Errorf("after a mistake there stands %q, and the scope is %q", got, p.query("scope"))
	}
	p.key(kb.Escape)
	p.until("no editor", `!document.querySelector('[data-test=scope-editor]')`)

	// A drag over the ribbon that rests.
	const move = `(([type, share]) => { const el = document.querySelector('[data-test=ribbon]'); el.setPointerCapture = () => {}; const r = el.getBoundingClientRect(); el.dispatchEvent(new PointerEvent(type, { clientX: r.left + share * r.width, clientY: r.top + 20, bubbles: true, pointerId: 1 })) })`
	p.until("the ribbon", `document.querySelector('[data-test=ribbon]')?.dataset.ready === 'true'`)
	value[any](p, move+`(['pointerdown', 0.25])`)
	value[any](p, move+`(['pointermove', 0.5])`)
	both := typed + " and time from"
	p.until("the picture of this part, ahead", asked("/flame", both)+" === 1")
	value[any](p, move+`(['pointerup', 0.5])`)
	p.until("this part", fmt.Sprintf(`new URLSearchParams(location.search).get('scope')?.startsWith(%q)`, both))
	p.until("the list in it", asked("/hot", both)+" === 1")
	if n := value[int](p, asked("/flame", both)); n != 1 {
		t.Errorf("the picture of a part of the time was asked for %d times", n)
	}
}
