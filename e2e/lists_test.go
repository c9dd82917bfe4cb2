package e2e

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestSortAndChooseTwo: sorting by a column, and comparing two that were chosen
// in the list, the older as the baseline.
func TestSortAndChooseTwo(t *testing.T) {
	p := newPage(t)
	p.visit("/takes")
	p.says("46 takes")
	const first = `document.querySelectorAll('[role=table] [role=row]')[1].innerText`
	p.do("sorting by samples", chromedp.Click(`//button[normalize-space()="Samples"]`, chromedp.NodeVisible))
	p.until("the most first", first+`.includes('exact')`)
	p.do("the other way", chromedp.Click(`//button[normalize-space()="Samples"]`, chromedp.NodeVisible))
	p.until("the fewest first", first+`.includes("1.4.0")`)
	if got := p.query("sort") + " " + p.query("order"); got != "samples up" {
		t.Errorf("the address says %q", got)
	}
	for _, build := range []string{"3.5.0", "3.4.0"} {
		p.do("choosing", chromedp.Click(fmt.Sprintf(`input[aria-label="Choose engraved %s to compare"]`, build)))
	}
	p.do("comparing", chromedp.Click(`//button[normalize-space()="Compare two"]`, chromedp.NodeVisible))
	p.until("the comparison", `location.pathname === '/compare'`)
	p.says("for each unit of unchanged work") // they are takes of the service, the shortest
	p.visit("/takes?search=nothing+has+this")
	p.says("No take matches")
}

// TestIndexFindsAndPins: the filter narrows the list, a pin stands on top of
// it, and the order by total is in the address.
func TestIndexFindsAndPins(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	const top = `document.querySelector('[data-test=hot-row]').innerText`
	p.until("the hottest first", top+`.includes('Skyline')`)
	p.do("ordering by total", chromedp.Click(`[role=group][aria-label="Order by"] button:last-child`))
	p.until("the root first", top+`.includes('runtime.goexit')`)
	if by := p.query("by"); by != "total" {
		t.Errorf("the address says by=%q", by)
	}
	p.do("filtering", chromedp.SendKeys(`input[aria-label="Find a function"]`, "beam."))
	p.until("beams only", `[...document.querySelectorAll('[data-test=hot-row]')].every(r => r.innerText.includes('beam.'))`)
	p.do("choosing", chromedp.Click(`[data-test=hot-row]`))
	p.until("the focus", `new URLSearchParams(location.search).get('focus')?.includes('beam.')`)
	p.do("leaving the filter", chromedp.SendKeys(`input[aria-label="Find a function"]`, kb.Escape))
	value[bool](p, `document.activeElement.blur(), true`)
	p.key("p")
	p.until("the pin on top", top+`.includes('beam.')`)
	p.key("p")
	p.until("no pin", top+`.includes('runtime.goexit')`)
	p.until("no pin on the server", `fetch('/api/v1/programs/engraved/pins').then(r => r.json()).then(d => d.functions.length === 0)`)
	// The focus is followed while its own row is out of sight.
	p.visit("/takes/" + takeOf(t, "3.5.0") + "?focus=entelon%2Fdemo%2Fengraved%2Fspacing.Justify")
	p.until("the focus on top of the list", `document.querySelector('[data-test=followed]')?.innerText.includes('spacing.Justify')`)
}

// TestThemesAndFoldedReading hold from page to page.
func TestThemesAndFoldedReading(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.4.0"))
	p.says("itself takes")
	const dark = `document.documentElement.classList.contains('dark')`
	was := value[bool](p, dark)
	p.do("the other theme", chromedp.Click(`//nav//button[contains(., "Light") or contains(., "Dark")]`, chromedp.NodeVisible))
	p.until("the other theme", fmt.Sprintf("%s !== %v", dark, was))
	p.key("v")
	p.until("the reading folded", `document.querySelector('[aria-label="Fold the reading"]').ariaExpanded === 'false'`)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	p.until("the same theme and a folded reading", fmt.Sprintf(`%s !== %v && document.querySelector('[aria-label="Fold the reading"]').ariaExpanded === 'false'`, dark, was))
	p.key("v")
	p.do("the theme as it was", chromedp.Click(`//nav//button[contains(., "Light") or contains(., "Dark")]`, chromedp.NodeVisible))
	p.until("the theme as it was", fmt.Sprintf("%s === %v", dark, was))
}

// TestNothingComesFromElsewhere: the page loads from this server alone, and
// without an error.
func TestNothingComesFromElsewhere(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	if foreign := value[[]string](p, `performance.getEntriesByType('resource').map(r => r.name).filter(n => !n.startsWith(location.origin))`); len(foreign) > 0 {
		t.Errorf("loaded from elsewhere: %v", foreign)
	}
	if fonts := value[int](p, `document.fonts.ready.then(f => [...f].filter(x => x.status === 'loaded').length)`); fonts < 2 {
		t.Errorf("%d fonts were loaded, want the text's and the code's", fonts)
	}
	if unnamed := value[[]string](p, `[...document.querySelectorAll('button, a, input, canvas, [role=listbox]')].filter(e => !(e.ariaLabel || e.innerText?.trim() || e.title || e.placeholder || e.hidden || e.type === 'file')).map(e => e.outerHTML.slice(0, 90))`); len(unnamed) > 0 {
		t.Errorf("controls without a name: %v", unnamed)
	}
}
