package e2e

import "testing"

// TestNoLensIsBlank: without a focus, lenses that are about one function take the costliest
// of the program's own and say so, and the card tells about the take.
func TestNoLensIsBlank(t *testing.T) {
	p := newPage(t)
	take := "/takes/" + takeOf(t, "3.5.0")
	p.visit(take + "?lens=lines")
	p.until("a function that was not chosen", `/costliest of the program's own:\s+slur.\(\*Skyline\).Height/.test(document.querySelector('[data-test=unchosen]')?.innerText)`)
	p.until("its lines", `document.querySelectorAll('[data-test=line]').length > 10`)
	p.until("the take's card", `/Whose code/.test(document.querySelector('[data-test=take-card]')?.innerText) && /--scores 300/.test(document.querySelector('[data-test=take-card]').innerText)`)
	p.looked("unchosen")
	p.click("[data-test=unchosen] button")
	p.until("it is followed now", `new URLSearchParams(location.search).get('focus')?.includes('Height') && !document.querySelector('[data-test=unchosen]')`)
	// How an interpreter gets to the program is one strip, which can be opened.
	p.visit("/takes/" + takeOf(t, "1.5.0"))
	p.until("the start-up, gathered", `/frames of the interpreter's start-up/.test(document.querySelector('[data-test=leading]')?.innerText)`)
	p.looked("leading")
	p.click("[data-test=leading]")
	p.until("it is open", `!document.querySelector('[data-test=leading]')`)
	p.visit(take)
	p.until("a flame of a compiled program", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10 && !document.querySelector('[data-test=leading]')`)
	p.visit(take + "?lens=neighbours")
	p.until("neighbours of it", `document.querySelector('[data-test=unchosen]') && /clearance/.test(document.querySelector('section[aria-label=Neighbours], main, #app').innerText)`)
}
