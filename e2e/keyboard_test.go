package e2e

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp/kb"
)

// tabTo goes on by the tab key until something of this name has the focus.
func (p *page) tabTo(what, name string) {
	p.t.Helper()
	const here = `(e => (e.getAttribute('aria-label') ?? e.innerText ?? '').replace(/\s+/g, ' ').trim())(document.activeElement)`
	for range 150 {
		p.key(kb.Tab)
		if value[bool](p, fmt.Sprintf(`%s.startsWith(%q)`, here, name)) {
			return
		}
	}
	p.t.Fatalf("by the tab key one does not come to %s; it is at %q", what, value[string](p, here))
}

// TestTheCauseByKeyboardAlone: from the list of programs to the line that made a
// build slower, and to a note that says so, without a mouse.
func TestTheCauseByKeyboardAlone(t *testing.T) {
	p := newPage(t)
	p.visit("/programs")
	p.says("Compare with 3.4.0")
	p.tabTo("the program", "engraved")
	p.key(kb.Enter)
	p.until("its ledger", `location.pathname === '/programs/engraved' && document.querySelectorAll('[data-test=ledger-row]').length > 5`)
	p.tabTo("why 3.5.0 is slower", "why?")
	p.key(kb.Enter)
	p.until("the comparison", `location.pathname === '/compare' && document.querySelectorAll('[data-test=suspect]').length > 1`)
	p.until("its flames", `Number(document.querySelector('[data-test=mirror]')?.dataset.frames) > 30`)
	p.until("the first suspect in focus", `document.querySelector('[data-test=both-card] h2')?.innerText.includes('slur.lift')`)
	p.tabTo("the slower take", "In 3.5.0")
	p.key(kb.Enter)
	p.until("that take, with the focus", `location.pathname.startsWith('/takes/') && document.querySelector('[data-test=card] h2')?.innerText.includes('slur.lift')`)
	p.until("its flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)

	// Down from the focus to where the time goes, and into its lines.
	p.key(kb.ArrowDown)
	p.until("the focus in the flame", `document.querySelector('[data-test=told]')?.innerText.includes('slur.')`)
	for range 2 {
		p.key(kb.ArrowDown)
	}
	p.until("the leaf", `document.querySelector('[data-test=card] h2')?.innerText.includes('(*Skyline).Height')`)
	p.key("t")
	p.until("one tree from it", `new URLSearchParams(location.search).get('through')?.includes('Height')`)
	p.key("t")
	p.until("the whole again", `!new URLSearchParams(location.search).get('through')`)
	p.key(",")
	p.until("its caller, which asks too often", `document.querySelector('[data-test=card] h2')?.innerText.includes('slur.clearance')`)
	p.key("n")
	p.until("the notes, which Escape closes and nothing else", `document.activeElement?.tagName === 'TEXTAREA'`)
	p.key(kb.Tab)
	p.key(kb.Escape)
	p.until("the focus that was there", `!document.querySelector('[role=dialog]') && document.querySelector('[data-test=card] h2')?.innerText.includes('slur.clearance')`)
	p.key("5")
	p.until("the lines of the loop", `[...document.querySelectorAll('[data-test=line]')].some(e => e.innerText.includes('Height('))`)

	// What was found is written down, where others find it.
	p.key("n")
	p.until("the notes", `document.activeElement?.tagName === 'TEXTAREA'`)
	for _, c := range "once will do" {
		p.key(string(c))
	}
	p.key(kb.Escape)
	p.until("no notes", `!document.querySelector('[role=dialog]') && document.querySelector('[data-test=card] h2')?.innerText.includes('slur.clearance')`)
	p.key("n")
	p.until("what was begun", `document.activeElement?.tagName === 'TEXTAREA' && document.activeElement.value === 'once will do'`)
	p.tabTo("keeping it", "Keep the note")
	p.key(kb.Enter)
	p.until("the note", `document.body.innerText.includes('once will do') && !document.querySelector('textarea')?.value`)
	value[any](p, `fetch('/api/v1' + location.pathname + '/notes').then(r => r.json()).then(r => Promise.all(r.notes.filter(n => n.text === 'once will do').map(n => fetch('/api/v1/notes/' + n.id, { method: 'DELETE' }))))`)
}
