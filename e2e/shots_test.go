package e2e

import (
	"fmt"
	"net/url"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestShots writes the pictures of the documentation; without -shots it only
// makes sure that each main view can be opened and shows its content.
func TestShots(t *testing.T) {
	new := takeOf(t, "3.5.0")
	const focus = "entelon%2Fdemo%2Fengraved%2Fslur.%28%2ASkyline%29.Height"
	const blend = "ink%3A%3APage%3A%3Ablend%28int%2C+int%2C+int%2C+unsigned+char%29"
	exact, slow := exactTake(t, "1.3.0"), takeOf(t, "3.7.0")
	views := []struct{ name, path, shows string }{
		{"programs", "/programs", "Compare with 3.4.0"},
		{"takes", "/takes", "lines under sung-out syllables"},
		{"take", "/takes/" + new + "?focus=" + focus, "Callers"},
		{"hot", "/takes/" + new + "?lens=hot&scope=not+idle&focus=" + focus, "Self share"},
		{"paths", "/takes/" + new + "?lens=paths&fold=runtime&focus=" + focus, "spreads out here"},
		{"neighbours", "/takes/" + new + "?lens=neighbours&focus=" + url.QueryEscape("entelon/demo/engraved/page.Draw"), "goes on to"},
		{"lines", "/takes/" + new + "?lens=lines&focus=" + url.QueryEscape("entelon/demo/engraved/slur.clearance"), "lines with a cost"},
		{"spans", "/takes/" + slow + "?lens=spans&slow=10", "glyph.picture"},
		{"lanes", "/takes/" + slow + "?lens=spans", "main.Engrave"},
		{"scope", "/takes/" + new + "?fold=foreign&scope=" + url.QueryEscape(`time from 2 s to 6 s and span is route, draw and label part is "Voice 2" and function is main.Engrave`) + "&focus=" + focus, "passing through"},
		{"exact-hot", "/takes/" + exact + "?lens=hot&focus=" + blend, "Self a call"},
		{"exact-lines", "/takes/" + exact + "?lens=lines&focus=" + blend, "Times"},
		{"events", "/takes/" + takeOf(t, "1.0.0") + "?lens=events&events=syscalls&eventby=file", "tcp 127.0.0.1"},
		{"new", "/new", "CPU now"},
		{"machines", "/machines", "Collector connected"},
		{"you", "/you", "Make a token"},
		{"people", "/people", "What was done"},
		{"ledger", "/programs/engraved", "regression"},
		{"over-builds", "/programs/engraved/function?focus=slur.lift", "To the build before"},
		{"compare-lines", fmt.Sprintf("/compare?lens=lines&baseline=%s&candidate=%s&focus=slur.Route", takesOf(t, "3.4.0"), takesOf(t, "3.5.0")), "lift(sky"},
		{"compare", fmt.Sprintf("/compare?baseline=%s&candidate=%s&focus=%s", takesOf(t, "3.4.0"), takesOf(t, "3.5.0"), url.QueryEscape("entelon/demo/engraved/slur.lift")), "What explains the difference"},
	}
	for _, theme := range []string{"light", "dark"} {
		for _, v := range views {
			t.Run(v.name+"-"+theme, func(t *testing.T) {
				if v.name == "new" {
					service(t)
				}
				p := newPage(t)
				p.visit("/programs")
				p.theme(theme)
				p.visit(v.path)
				p.says(v.shows)
				if v.name == "new" {
					p.until("processes", `document.querySelectorAll('[data-test=process]').length > 2`)
				}
				if v.name == "new" { // of all that runs here, only the demo's own is worth a picture
					p.do("finding the service", chromedp.SendKeys("input[aria-label='Find a process']", "engraved-3.5.0 --drive"))
					p.until("it alone", `document.querySelectorAll('[data-test=process]').length === 1`)
				}
				if v.name == "lanes" {
					p.key("]")
					p.until("what held the slowest one up", `document.querySelector('[data-test=lane-path] [data-test=blame]')`)
					p.key(kb.Enter)
					p.until("it in the lanes", `new URLSearchParams(location.search).get('when') && document.querySelector('[data-test=lane-path] [data-test=blame]') && !document.querySelector('section[aria-label=Lanes][aria-busy]')`)
				}
				if v.name == "scope" {
					p.until("the flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)
					p.key("=")
					p.until("the editor", `document.activeElement?.getAttribute('aria-label') === 'Scope expression'`)
					p.do("going on", chromedp.SendKeys(`[aria-label="Scope expression"]`, " and thread"))
					p.until("what may come", `document.querySelectorAll('#scope-proposals li').length > 0`)
				}
				if v.name == "machines" {
					value[string](p, `(e => e.textContent = e.textContent.replace(/^[^,]*/, 'a processor'))(document.querySelector('[data-test=processor]'))`)
				}
				// Some are worth no picture in the documentation, but to be looked at.
				kept := v.name != "people" && v.name != "you" && (theme == "light" || v.name == "take")
				if *shots != "" && (kept || *all) {
					p.picture(filepath.Join(*shots, v.name+map[string]string{"light": "", "dark": "-dark"}[theme]+".png"))
				}
			})
		}
	}
}

// exactTake is the key of the demo's exact take of a build.
func exactTake(t *testing.T, build string) string {
	t.Helper()
	p := newPage(t)
	p.visit("/takes")
	p.says("inkraster")
	return value[string](p, fmt.Sprintf(`fetch('/api/v1/takes?program=inkraster').then(r => r.json()).then(r => r.takes.find(t => t.exact && t.build === %q).key)`, build))
}

// takeOf returns the key of the newest take of a build of the demo's program.
func takeOf(t *testing.T, build string) string {
	t.Helper()
	p := newPage(t)
	p.visit("/takes")
	p.says("engraved")
	key := value[string](p, fmt.Sprintf(`fetch('/api/v1/takes?descending=true').then(r => r.json()).then(r => r.takes.find(t => t.build === %q && !t.exact && !t.workload.startsWith('attached')).key)`, build))
	return key
}
