package e2e

import (
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// takesOf returns the keys of all takes of a demo build, as a comparison names them.
func takesOf(t *testing.T, build string) string {
	t.Helper()
	p := newPage(t)
	p.visit("/takes")
	keys := value[string](p, `fetch('/api/v1/takes?limit=1000').then(r => r.json()).then(r => r.takes.filter(t => t.build === '`+build+`' && t.note !== 'e2e' && t.host === 'bench-1' && !t.exact && !t.workload.startsWith('attached')).map(t => t.key).join(','))`)
	if keys == "" {
		t.Fatalf("there is no take of %s", build)
	}
	return keys
}

// TestTheStoryOfABuild: the page says that a build is slower and how sure that
// is, names its two regressions, shows where they come in, and follows the scope
// and the sides.
func TestTheStoryOfABuild(t *testing.T) {
	old, new := takesOf(t, "3.4.0"), takesOf(t, "3.5.0")
	p := newPage(t)
	p.visit("/compare?baseline=" + old + "&candidate=" + new)
	p.until("the verdict", `/slower/.test(document.querySelector('[data-test=verdict]')?.innerText) && /%.*to/.test(document.querySelector('[data-test=verdict]').innerText)`)
	p.until("two suspects", `document.querySelectorAll('[data-test=suspect]').length >= 2`)
	suspects := value[string](p, `Array.from(document.querySelectorAll('[data-test=suspect]'), e => e.innerText).join('\n')`)
	for _, want := range []string{"slur.lift", "glyph.flatten"} {
		if !strings.Contains(suspects, want) {
			t.Errorf("%s is no suspect:\n%s", want, suspects)
		}
	}
	p.until("both flames", `Number(document.querySelector('[data-test=mirror]')?.dataset.frames) > 30`)

	// The keyboard chooses a suspect, dives to it, and comes back.
	p.key("s")
	p.until("the focus on the first suspect", `document.querySelector('[data-test=both-card] h2')?.innerText.includes('slur.lift') || document.querySelector('[data-test=both-card] h2')?.innerText.includes('glyph.flatten')`)
	p.key(kb.ArrowDown)
	p.key(kb.Enter)
	p.until("a dive", `document.querySelector('[data-test=mirror]').dataset.root !== '0'`)
	p.key(kb.Escape)
	p.until("the whole", `document.querySelector('[data-test=mirror]').dataset.root === '0'`)

	// A scope is obeyed by both sides.
	p.key("=")
	p.do("a scope", chromedp.SendKeys(`[role=combobox], textarea, input[aria-label*="expression" i]`, "function is glyph.Outline"))
	p.key(kb.Enter)
	p.until("the scope in the address", `new URLSearchParams(location.search).get('scope')?.includes('glyph.Outline')`)
	p.until("one suspect less", `!Array.from(document.querySelectorAll('[data-test=suspect]'), e => e.innerText).join().includes('slur.lift') && document.querySelectorAll('[data-test=suspect]').length > 0`)
	p.do("without it", chromedp.Click(`button[aria-label="Remove the scope"]`, chromedp.NodeVisible))
	p.until("the suspects again", `Array.from(document.querySelectorAll('[data-test=suspect]'), e => e.innerText).join().includes('slur.lift')`)

	// The table: only what is significant; by ratio.
	p.key("2")
	p.until("the table", `document.querySelectorAll('[data-test=difference]').length > 5`)
	all := value[float64](p, `Number(document.querySelector('[aria-label="Functions on both sides"]').innerText.match(/([0-9\u2009]+) functions/)[1].replace(/\u2009/g, ''))`)
	p.do("only what is told", chromedp.Click(`//label[contains(., "significant only")]/input`, chromedp.NodeVisible))
	p.until("fewer", `new URLSearchParams(location.search).get('only') === 'told'`)
	told := value[float64](p, `Number(document.querySelector('[aria-label="Functions on both sides"]').innerText.match(/([0-9\u2009]+) functions/)[1].replace(/\u2009/g, ''))`)
	if told < 5 || told > all/2 {
		t.Errorf("%v of %v functions are significant", told, all)
	}

	p.key("x")
	p.until("the other verdict", `document.querySelector('[data-test=verdict]')?.innerText.includes('faster')`)

	// Two takes of one build are not called different.
	one := strings.Split(old, ",")
	p.visit("/compare?baseline=" + one[0] + "&candidate=" + one[1])
	p.says("Take each side several times, interleaved")
	p.until("no verdict from two takes", `document.querySelector('[data-test=verdict]').innerText.includes('too few takes')`)
}

// TestLedger: a program's home shows its builds with their verdicts, marks where
// it got slower and where that was fixed, and leads to takes and comparisons with
// the focus.
func TestLedger(t *testing.T) {
	p := newPage(t)
	p.visit("/programs")
	p.do("the program", chromedp.Click(`//h2/a[normalize-space()="engraved"]`, chromedp.NodeVisible))
	p.until("four builds", `document.querySelectorAll('[data-test=build]').length === 4`)
	builds := value[string](p, `Array.from(document.querySelectorAll('[data-test=build]'), e => e.innerText.replace(/\s+/g, ' ')).join('|')`)
	for i, want := range []string{"3.4.0 5 takes", "+ regression 3.5.0 5 takes", "− fixed 3.5.1 5 takes", "3.6.0 5 takes"} {
		if got := strings.Split(builds, "|")[i]; !strings.Contains(got, want) {
			t.Errorf("build %d is %q, want %q", i, got, want)
		}
	}
	p.do("filtering", chromedp.SendKeys(`input[aria-label="Find a function"]`, "slur.lift"))
	p.until("its row", `document.querySelectorAll('[data-test=ledger-row]').length === 1`)
	p.do("the focus", chromedp.Click(`[data-test=ledger-row] [role=rowheader] button`, chromedp.NodeVisible))
	p.until("the focus in the address", `new URLSearchParams(location.search).get('focus')?.endsWith('slur.lift')`)
	value[bool](p, `document.activeElement.blur(), true`)
	p.key("p")
	p.until("the pin on top", `document.querySelector('[data-test=ledger-row] [role=rowheader]').className.includes('bg-focus-wash') && /Unpin/.test(document.querySelector('[data-test=ledger-row]').innerHTML)`)
	p.key("p")
	p.until("no pin", `!/Unpin/.test(document.querySelector('[data-test=ledger-row]').innerHTML)`)
	p.do("why it got slower", chromedp.Click(`(//*[@data-test="build"])[2]//button[normalize-space()="why?"]`, chromedp.NodeVisible))
	p.until("the comparison with the focus", `location.pathname === '/compare' && document.querySelector('[data-test=both-card] h2')?.innerText.includes('slur.lift')`)
	p.until("its verdict", `document.querySelector('[data-test=verdict]')?.innerText.includes('slower')`)
	p.visit("/programs/engraved")
	p.until("cells", `document.querySelectorAll('[data-test=ledger-row] [role=cell]').length > 20`)
	p.do("a cell", chromedp.Click(`[data-test=ledger-row] [role=cell]:nth-of-type(2)`, chromedp.NodeVisible))
	p.until("a take with the focus", `location.pathname.startsWith('/takes/') && new URLSearchParams(location.search).get('focus')`)
	p.visit("/programs/nothing")
	p.until("what is wrong", `document.querySelector('[role=alert]')`)
}

// TestLinesBesideEachOther: the line that asks too often stands out, with what it
// costs on both sides.
func TestLinesBesideEachOther(t *testing.T) {
	old, new := takesOf(t, "3.4.0"), takesOf(t, "3.5.0")
	p := newPage(t)
	p.visit("/compare?baseline=" + old + "&candidate=" + new + "&focus=slur.Route")
	p.until("the focus, by its short name", `document.querySelector('[data-test=both-card] h2')?.innerText === 'slur.Route'`)
	p.key("5")
	p.until("lines", `document.querySelectorAll('[data-test=beside]').length > 10`)
	p.until("the line that got dearer", `Array.from(document.querySelectorAll('[data-test=beside]'), e => e.innerText.replace(/\s+/g, ' ')).some(x => /\+[0-9.]+ ?m?s .*lift\(sky/.test(x))`)
	p.until("words in colour", `document.querySelector('[data-test=beside] span[style*="--source-token-keyword"]')`)
	p.key(kb.ArrowDown)
	p.until("a line that is stepped to", `document.querySelector('[data-test=beside].outline-1')`)
	p.do("what to share", chromedp.Click(`//button[contains(., "Share")]`, chromedp.NodeVisible))
	p.until("a report", `document.querySelector('a[href*="/compare/report.html?"]')`)
	report := value[string](p, `fetch(document.querySelector('a[href*="/compare/report.html?"]').href).then(r => r.text())`)
	if !strings.Contains(report, "slur.lift") || strings.Contains(report, "<script") {
		t.Error("the report does not name the suspect, or has a script")
	}
}

// TestOneNameIsMatchedAndParted: a new function is said to be one that is gone, and
// that is taken back by the notice.
func TestOneNameIsMatchedAndParted(t *testing.T) {
	old, new := takesOf(t, "3.4.0"), takesOf(t, "3.5.0")
	p := newPage(t)
	// Exchanged, what was new is gone.
	p.visit("/compare?lens=functions&baseline=" + old + "&candidate=" + new + "&focus=slur.clearance")
	p.until("that it is new", `/new/.test(document.querySelector('[data-test=both-card]')?.innerText) && document.querySelector('[data-test=together] button')`)
	p.do("what it was", chromedp.Click(`[data-test=together] button`, chromedp.NodeVisible))
	p.until("what is gone", `document.querySelectorAll('[data-test=together] [role=option]').length > 1`)
	p.do("one of them", chromedp.Click(`[data-test=together] [role=option]:nth-child(2)`, chromedp.NodeVisible))
	p.until("the match", `/matched by hand/.test(document.querySelector('[data-test=both-card]').innerText)`)
	p.do("parting them", chromedp.Click(`[data-test=apart]`, chromedp.NodeVisible))
	p.until("a new one again", `document.querySelector('[data-test=together]') && !/matched by hand/.test(document.querySelector('[data-test=both-card]').innerText)`)
	left := value[float64](p, `fetch('/api/v1/programs/engraved/matches').then(r => r.json()).then(r => r.matches.length)`)
	if left != 0 {
		t.Errorf("%v matches are left", left)
	}
}

// TestOverAllBuilds: one function, take by take, from the ledger to why it changed.
func TestOverAllBuilds(t *testing.T) {
	p := newPage(t)
	p.visit("/programs/engraved/function?focus=slur.lift")
	p.until("a mark for each take", `document.querySelectorAll('[data-test=over-take]').length >= 12`)
	rows := value[string](p, `Array.from(document.querySelectorAll('[data-test=over-build]'), e => e.innerText.replace(/\s+/g, ' ')).join('|')`)
	for i, want := range []string{"the first", "slower", "faster", ""} {
		if got := strings.Split(rows, "|")[i]; !strings.Contains(got, want) {
			t.Errorf("build %d is %q, want %q", i, got, want)
		}
	}
	p.do("why", chromedp.Click(`(//*[@data-test="over-build"])[2]//a`, chromedp.NodeVisible))
	p.until("the comparison with the focus", `location.pathname === '/compare' && document.querySelector('[data-test=both-card] h2')?.innerText.includes('slur.lift')`)
	p.do("over all builds", chromedp.Click(`//a[normalize-space()="In all builds"]`, chromedp.NodeVisible))
	p.until("the builds again", `location.pathname.endsWith('/function') && document.querySelectorAll('[data-test=over-build]').length === 4`)
}

// TestOpenNotes: what somebody wrote stands in the ledger until it is settled.
func TestOpenNotes(t *testing.T) {
	p := newPage(t)
	p.visit("/programs/engraved")
	key := strings.Split(takesOf(t, "3.6.0"), ",")[0]
	id := value[float64](p, `fetch('/api/v1/takes/`+key+`/notes', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({function: '', text: 'is the border worth it?'})}).then(r => r.json()).then(r => r.id)`)
	p.visit("/programs/engraved")
	p.until("the note", `document.querySelector('[data-test=open-note]')?.innerText.includes('is the border worth it?')`)
	p.do("settling it", chromedp.Click(`[data-test=open-note] button.action`, chromedp.NodeVisible))
	p.until("no note", `!document.querySelector('[data-test=open-note]')`)
	value[bool](p, `fetch('/api/v1/notes/`+strconv.Itoa(int(id))+`', {method: 'DELETE'}).then(r => r.ok)`)
}
