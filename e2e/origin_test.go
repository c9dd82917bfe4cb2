package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// TestCardTellsWhereFramesComeFrom: for an inlined function of an optimised
// program without frame pointers, the card says whose code it is, where, what
// it was inlined into and how its stacks were walked; and a click on what it
// was inlined into moves the focus there.
func TestCardTellsWhereFramesComeFrom(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "1.3.0") + "?focus=ink%3A%3Amixed")
	for _, words := range []string{"the program's own code", "inkraster/raster.cc:43", "Inlined into", "ink::Page::blend", "program counter", "call-frame tables"} {
		p.says(words)
	}
	p.until("all that stands around the card", `document.querySelector('[data-test=reading]')?.innerText.length > 20 && document.querySelectorAll('[data-test=hot-row]').length > 5`)
	p.do("going to what it is inlined into", chromedp.Click(`[data-test=origin] button`))
	p.until("the focus", `new URLSearchParams(location.search).get('focus')?.startsWith('ink::Page::blend(')`)
	p.until("its full name is there on demand", `document.querySelector('[data-test=card] h2')?.innerText === 'ink::Page::blend'`)
	p.do("asking for it", chromedp.Click(`//button[contains(., "full name")]`, chromedp.NodeVisible))
	p.says("ink::Page::blend(int, int, int, unsigned char)")
	p.says("_ZN3ink4Page5blendEiiih")
}
