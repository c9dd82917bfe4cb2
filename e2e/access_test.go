package e2e

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"
)

// audit looks at a page as assistive technology and a weak eye do, and returns
// what is wrong: controls and pictures without a name, roles outside of what they
// belong to, an order of the keyboard that is not that of reading, several main
// headings, and text that stands out too little from what is behind it (contrast
// by WCAG 2: 4.5 to 1, 3 to 1 for large text).
const audit = `(() => {
	const wrong = []
	const where = (e) => e.tagName.toLowerCase() + (e.className && typeof e.className === 'string' ? '.' + e.className.split(' ').slice(0, 3).join('.') : '') + ' "' + (e.textContent ?? '').trim().slice(0, 30) + '"'
	const visible = (e) => { const r = e.getBoundingClientRect(), s = getComputedStyle(e); return r.width > 0 && r.height > 0 && s.visibility !== 'hidden' && s.opacity !== '0' && !e.closest('[aria-hidden=true]') }
	const name = (e) => {
		const by = e.getAttribute('aria-labelledby')
		if (by) return by.split(' ').map(id => document.getElementById(id)?.textContent ?? '').join(' ').trim()
		return (e.getAttribute('aria-label') || e.textContent?.trim() || [...(e.labels ?? [])].map(l => l.textContent).join(' ').trim() || e.getAttribute('title') || e.getAttribute('alt') || '').trim()
	}
	for (const e of document.querySelectorAll('button, a[href], input, textarea, select, [role=button], [role=option], [role=tab], [role=combobox], [role=menuitem]'))
		if (visible(e) && e.type !== 'hidden' && !name(e)) wrong.push('no name: ' + where(e))
	for (const e of document.querySelectorAll('img, canvas, [role=img]')) if (visible(e) && !name(e)) wrong.push('a picture without a name: ' + where(e))
	const within = { option: '[role=listbox]', tab: '[role=tablist]', menuitem: '[role=menu]', columnheader: '[role=row]', cell: '[role=row]', gridcell: '[role=row]', row: '[role=table], [role=grid], [role=treegrid]' }
	for (const [role, in_] of Object.entries(within)) for (const e of document.querySelectorAll('[role=' + role + ']')) if (!e.closest(in_)) wrong.push('a ' + role + ' outside of ' + in_ + ': ' + where(e))
	for (const e of document.querySelectorAll('[tabindex]')) if (Number(e.getAttribute('tabindex')) > 0) wrong.push('out of the order of reading: ' + where(e))
	for (const e of document.querySelectorAll('button button, a a, button a, a button, button [role=button], a [role=button]')) wrong.push('a control within a control: ' + where(e))
	const heads = [...document.querySelectorAll('h1')].filter(visible)
	if (heads.length !== 1) wrong.push(heads.length + ' main headings')
	if (!document.querySelector('main')) wrong.push('no main part')
	if (!document.querySelector('nav')) wrong.push('no navigation')
	if (!document.documentElement.lang) wrong.push('no language')
	if (!document.title) wrong.push('no title')

	const dot = document.createElement('canvas').getContext('2d', { willReadFrequently: true })
	const rgba = (c) => { dot.clearRect(0, 0, 1, 1); dot.fillStyle = '#000'; dot.fillStyle = c; dot.fillRect(0, 0, 1, 1); const d = dot.getImageData(0, 0, 1, 1).data; return [d[0], d[1], d[2], d[3] / 255] }
	const over = (a, b) => [0, 1, 2].map(i => a[i] * a[3] + b[i] * (1 - a[3])).concat(1)
	const known = new Map()
	const colour = (c) => { if (!known.has(c)) known.set(c, rgba(c)); return known.get(c) }
	const behind = (e) => {
		const layers = []
		for (; e; e = e.parentElement) { const c = colour(getComputedStyle(e).backgroundColor); if (c[3] > 0) layers.push(c); if (c[3] === 1) break }
		return layers.reverse().reduce((b, a) => over(a, b), [255, 255, 255, 1])
	}
	const light = (c) => { const f = (v) => { v /= 255; return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4 }; return 0.2126 * f(c[0]) + 0.7152 * f(c[1]) + 0.0722 * f(c[2]) }
	const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT)
	const told = new Set()
	while (walker.nextNode()) {
		const e = walker.currentNode.parentElement
		if (!walker.currentNode.textContent.trim() || !visible(e) || e.closest('button:disabled, svg, .sr-only, script, style')) continue
		const s = getComputedStyle(e)
		const b = behind(e), f = over(colour(s.color), b)
		const [x, y] = [light(f), light(b)].sort((p, q) => q - p)
		const size = parseFloat(s.fontSize), large = size >= 24 || size >= 18.66 && Number(s.fontWeight) >= 700
		const ratio = (x + 0.05) / (y + 0.05)
		const key = s.color + s.backgroundColor + large
		if (ratio < (large ? 3 : 4.5) && !told.has(key)) { told.add(key); wrong.push('contrast ' + ratio.toFixed(2) + ': ' + where(e)) }
	}
	return wrong
})()`

// TestEveryPageIsAccessible audits every page in both themes.
func TestEveryPageIsAccessible(t *testing.T) {
	old, new := takeOf(t, "3.4.0"), takeOf(t, "3.5.0")
	focus := url.QueryEscape(height)
	pages := []struct{ path, ready string }{
		{"/programs", `document.body.innerText.includes('Compare with 3.4.0')`},
		{"/takes", `document.body.innerText.includes('lines under sung-out syllables')`},
		{"/takes/" + new + "?focus=" + focus, `document.body.innerText.includes('Callers') && document.querySelector('[data-test=flame]')?.dataset.frames > 10`},
		{"/takes/" + new + "?lens=hot&focus=" + focus + "&scope=" + url.QueryEscape("not idle"), `document.querySelectorAll('[data-test=hot-full]').length > 5`},
		{"/takes/" + new + "?lens=paths&focus=" + focus, `document.querySelectorAll('[data-test=path]').length > 5`},
		{"/takes/" + new + "?lens=neighbours&focus=" + focus, `document.querySelector('[data-test=neighbours]')`},
		{"/takes/" + new + "?lens=lines&focus=" + focus, `document.querySelectorAll('[data-test=line]').length > 5`},
		{"/takes/" + new + "?lens=neighbours&around=graph", `document.querySelector('[data-test=graph]')`},
		{"/takes/" + new + "?lens=neighbours&around=areas", `document.querySelector('[data-test=areas]')`},
		{fmt.Sprintf("/compare?baseline=%s&candidate=%s&focus=%s", old, new, focus), `Number(document.querySelector('[data-test=mirror]')?.dataset.frames) > 10`},
		{fmt.Sprintf("/compare?lens=functions&baseline=%s&candidate=%s&focus=%s", old, new, focus), `document.querySelectorAll('[data-test=difference]').length > 5`},
		{fmt.Sprintf("/compare?lens=lines&baseline=%s&candidate=%s&focus=%s", old, new, focus), `document.querySelectorAll('[data-test=beside]').length > 5`},
		{"/programs/engraved", `document.querySelectorAll('[data-test=ledger-row]').length > 5`},
		{"/programs/engraved/function?focus=" + focus, `document.querySelectorAll('[data-test=over-build]').length > 1`},
		{"/compare", `document.body.innerText.includes('Choose a baseline')`},
		{"/new", `document.querySelectorAll('[data-test=process]').length > 2`},
		{"/machines", `document.body.innerText.includes('Collector connected')`},
		{"/you", `document.body.innerText.includes('Make a token')`},
		{"/people", `document.body.innerText.includes('What was done')`},
		{"/no/such/page", `document.body.innerText.includes('There is no such page')`},
	}
	// The audit finds what is wrong.
	q := newPage(t)
	q.visit("/programs")
	q.until("the page", pages[0].ready)
	value[any](q, `document.querySelector('main').insertAdjacentHTML('beforeend', '<button style="width:20px;height:20px"></button><p style="color:#aaa;background:#fff">faint</p><h1>again</h1><div role="option">x</div>')`)
	if found := strings.Join(value[[]string](q, audit), "; "); !strings.Contains(found, "no name: button") || !strings.Contains(found, "contrast 2.3") || !strings.Contains(found, "2 main headings") || !strings.Contains(found, "a option outside") {
		t.Errorf("of four faults the audit finds: %s", found)
	}
	for _, theme := range []string{"light", "dark"} {
		p := newPage(t)
		p.visit("/programs")
		p.theme(theme)
		for _, x := range pages {
			p.visit(x.path)
			p.until("the page", x.ready)
			wrong := value[[]string](p, audit)
			for range 10 { // what is still on its way gets a moment
				if len(wrong) == 0 {
					break
				}
				time.Sleep(150 * time.Millisecond)
				wrong = value[[]string](p, audit)
			}
			if len(wrong) > 0 {
				t.Errorf("%s, %s:\n  %s", x.path, theme, strings.Join(wrong, "\n  "))
			}
		}
	}
}
