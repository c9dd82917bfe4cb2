package e2e

import (
	"bytes"
	"flag"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"entelon/bench/section"
)

var sizeFile = flag.String("size", "", "file whose section of sizes gets the measurements of large takes; without it a small one is looked at and nothing is written")

var sizeDetail = flag.Bool("size-detail", false, "tell what the page asked for meanwhile")

// timed does something in the page and waits, frame by frame, until it can be
// seen. It returns the milliseconds between.
func (p *page) timed(what, act, seen string) float64 {
	p.t.Helper()
	p.rest()
	ms := value[float64](p, fmt.Sprintf(`(async () => {
		const begin = performance.now(); window.began = begin;
		%s;
		while (!(%s)) {
			if (performance.now() - begin > 20000) return -1
			await new Promise(r => requestAnimationFrame(r))
		}
		await new Promise(r => requestAnimationFrame(r))
		window.ended = performance.now()
		return window.ended - begin
	})()`, act, seen))
	if ms < 0 {
		p.t.Fatalf("waited in vain for %s; the page says:\n%s", what, value[string](p, "document.body.innerText.slice(0, 600)"))
	}
	if *sizeDetail {
		p.t.Logf("%s: %.0f ms; %s", what, ms, value[string](p, `'busy '+ long.filter(x => x.at >= window.began-5).map(x => (x.at-window.began).toFixed(0)+'+'+x.ms.toFixed(0)).join(' ')+'; '+ performance.getEntriesByType('resource').filter(e => e.startTime >= window.began).map(e => e.name.replace(/.*takes.[^/]*|[?].*/g, '') + ' ' + (e.startTime - window.began).toFixed(0) + '-' + (e.responseEnd - window.began).toFixed(0) + ' (' + e.transferSize + ')').join(', ')`))
	}
	return ms
}

// waited is for how many milliseconds of what was timed last the server was asked.
func (p *page) waited() float64 {
	p.t.Helper()
	return value[float64](p, `(es => es.length ? Math.max(...es.map(e => e.responseEnd)) - Math.min(...es.map(e => e.startTime)) : 0)(performance.getEntriesByType('resource').filter(e => e.startTime >= window.began && e.responseEnd <= window.ended && !e.name.includes('/jobs')))`)
}

// detail tells what a page that was opened asked for until some moment.
func (p *page) detail(until string) {
	p.t.Helper()
	if *sizeDetail {
		p.t.Log(value[string](p, `performance.getEntriesByType('resource').concat(performance.getEntriesByType('navigation')).filter(e => e.startTime < `+until+`).map(e => e.name.replace(/.*takes.[^/]*|[?].*|http:..[^/]*/g, '') + ' ' + e.startTime.toFixed(0) + '-' + e.responseEnd.toFixed(0)).join(', ')`))
	}
}

// rest waits until the page has what it asked for, as a reader does who looks at
// it before the next step.
func (p *page) rest() {
	p.t.Helper()
	value[any](p, `window.asked && (asked.last = performance.now())`) // something may be asked a moment after what was waited for
	p.until("rest", `(async () => {
		if (!window.asked) {
			window.long = []
			new PerformanceObserver(l => long.push(...l.getEntries().map(e => ({ at: e.startTime, ms: e.duration })))).observe({ type: 'longtask' })
			window.asked = { open: 0, last: performance.now() }
			const ask = window.fetch
			window.fetch = async (...a) => { asked.open++; try { return await ask(...a) } finally { asked.open--; asked.last = performance.now() } }
			performance.setResourceTimingBufferSize(100000)
		}
		return asked.open === 0 && performance.now() - asked.last > 150
	})()`)
}

func keydown(key string) string {
	return fmt.Sprintf(`document.body.dispatchEvent(new KeyboardEvent('keydown', { key: %q, bubbles: true }))`, key)
}

// TestALargeTake measures what a reader of a large take waits for.
func TestALargeTake(t *testing.T) {
	if *sizeFile == "" {
		measureLarge(t, 40_000, 8_000)
		return
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, "## Large takes in the browser\n\nMeasured in headless Chromium at 1280x800 by `make size` on %s, on takes that `entelon invent` made, with the server, PostgreSQL and the browser on one machine of %d processors. Times are from the action to the painting that shows its result. The browser draws by the processors alone here, so that the page needs some of them while the server answers.\n",
		time.Now().UTC().Format("2006-01-02"), runtime.NumCPU())
	for _, x := range []struct{ samples, stacks int }{{1_000_000, 200_000}, {10_000_000, 1_000_000}} {
		t.Run(fmt.Sprint(x.samples), func(t *testing.T) { out.WriteString(measureLarge(t, x.samples, x.stacks)) })
	}
	if t.Failed() {
		return // half of it is worth nothing
	}
	if err := section.Write(*sizeFile, "sizes", "make size", out.String()); err != nil {
		t.Fatal(err)
	}
}

// comparedLarge opens the comparison of two further takes of a size, two builds of
// one program that the server has not opened yet, and returns the milliseconds
// until verdict and flames are there.
func (p *page) comparedLarge(samples, stacks int) float64 {
	t := p.t
	t.Helper()
	var keys []string
	for _, build := range []string{"a", "b"} {
		file := filepath.Join(t.TempDir(), build+".take")
		if out, err := exec.Command("../bin/entelon", "invent", "--samples", fmt.Sprint(samples), "--stacks", fmt.Sprint(stacks), "--seed", "9", "--build", build, "--out", file).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		p.visit("/takes")
		p.until("a place to add files", `document.querySelector('input[type=file]')`)
		p.do("adding it", chromedp.SetUploadFiles(`input[type=file]`, []string{file}))
		found := fmt.Sprintf(`fetch('/api/v1/takes?program=invented').then(r => r.json()).then(r => r.takes.find(t => t.build === %q)?.key ?? '')`, build)
		p.within(2*time.Minute, "it", found)
		keys = append(keys, value[string](p, found))
	}
	t.Cleanup(func() {
		q := newPage(t)
		q.visit("/takes")
		for _, k := range keys {
			q.remove(k)
		}
	})
	p.visit("/compare?baseline=" + keys[0] + "&candidate=" + keys[1])
	p.within(time.Minute, "the comparison", `document.querySelector('[data-test=verdict]') && Number(document.querySelector('[data-test=mirror]')?.dataset.frames) > 10 && (window.compared ??= performance.now())`)
	p.detail("window.compared")
	return value[float64](p, `window.compared`)
}

// measureLarge uses a take of a size as a reader does, and returns the times as
// a section of text.
func measureLarge(t *testing.T, samples, stacks int) string {
	file := filepath.Join(t.TempDir(), "large.take")
	if out, err := exec.Command("../bin/entelon", "invent", "--samples", fmt.Sprint(samples), "--stacks", fmt.Sprint(stacks), "--seed", "9", "--out", file).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	about, err := os.Stat(file)
	if err != nil {
		t.Fatal(err)
	}
	p := newPage(t)
	p.visit("/takes")
	p.until("a place to add files", `document.querySelector('input[type=file]')`)
	p.do("adding it", chromedp.SetUploadFiles(`input[type=file]`, []string{file}))
	p.within(2*time.Minute, "it", `fetch('/api/v1/takes?program=invented').then(r => r.json()).then(r => r.count === 1)`)
	key := value[string](p, `fetch('/api/v1/takes?program=invented').then(r => r.json()).then(r => r.takes[0].key)`)
	t.Cleanup(func() {
		q := newPage(t)
		q.visit("/takes")
		q.remove(key)
	})

	p.visit("/takes/" + key)
	figures, waits := map[string][]float64{}, map[string][]float64{}
	timed := func(name, what, act, seen string) {
		figures[name] = append(figures[name], p.timed(what, act, seen))
		waits[name] = append(waits[name], p.waited())
	}
	p.within(time.Minute, "the flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10 && (window.firstFlame ??= performance.now())`)
	figures["first flame, cold, from the address on"] = []float64{value[float64](p, `window.firstFlame`)}
	p.detail("window.firstFlame")
	const root = `document.querySelector('[data-test=flame]').dataset.root`
	const total = `document.querySelector('[data-test=flame]').dataset.total`
	p.until("the list of functions, by which one chooses where to dive", `document.querySelectorAll('[data-test=hot-row]').length > 10`)
	dives, rounds := 24, 3
	if samples < 1_000_000 {
		dives, rounds = 5, 1 // a small take is not deeper
	}
	for i := range dives {
		if i > 0 && i%6 == 0 {
			value[any](p, keydown("Escape"))
			p.until("the whole", root+` === '0'`)
		}
		value[any](p, strings.Repeat(keydown("ArrowDown")+";", 3))
		before := value[string](p, root)
		timed("diving", "a dive", keydown("Enter"), fmt.Sprintf("%s !== %q", root, before))
	}
	for range 3 {
		before := value[string](p, root)
		timed("climbing", "climbing", keydown("Backspace"), fmt.Sprintf("%s !== %q", root, before))
	}
	timed("back to the whole", "the whole", keydown("Escape"), root+` === '0'`)
	for _, word := range []string{"r", "ro", "rou", "rout", "route", "routeh", "s", "st", "str", "stre", "stret"} {
		timed("a key of a search", "the matches of "+word,
			fmt.Sprintf(`(e => { e.value = %q; e.dispatchEvent(new Event('input')) })(document.querySelector('[aria-label="Search frames"]'))`, word),
			fmt.Sprintf(`document.querySelector('[data-test=found]')?.dataset.searched === %q`, word))
	}
	value[any](p, `(e => { e.value = ''; e.dispatchEvent(new Event('input')) })(document.querySelector('[aria-label="Search frames"]'))`)
	scoped := func(from, to float64) string {
		return fmt.Sprintf(`(el => { el.setPointerCapture = () => {}; const r = el.getBoundingClientRect(); const at = (type, share) => el.dispatchEvent(new PointerEvent(type, { clientX: r.left + share * r.width, clientY: r.top + 20, bubbles: true, pointerId: 1 })); at('pointerdown', %v); at('pointermove', %v); at('pointerup', %v) })(document.querySelector('[data-test=ribbon]'))`, from, to, to)
	}
	p.until("the ribbon", `document.querySelector('[data-test=ribbon]')?.dataset.ready === 'true'`)
	for i := range 12 * rounds {
		before := value[string](p, total)
		timed("restricting the time", "less", scoped(0.1+0.03*float64(i)/float64(rounds), 0.5+0.035*float64(i)/float64(rounds)), fmt.Sprintf("%s !== %q", total, before))
	}
	// Conditions of every kind are typed, and applied by Enter: at once with the last
	// letter, or when the page has said how much they would keep.
	const enter = `(e => e.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true })))(document.querySelector('[data-test=scope-editor] input'))`
	write := func(text string) string {
		return fmt.Sprintf(`(e => { e.value = %q; e.dispatchEvent(new Event('input')) })(document.querySelector('[data-test=scope-editor] input'))`, text)
	}
	hottest := strings.Split(value[string](p, `[...document.querySelectorAll('[data-test=hot-row]')].map(e => e.innerText.split('\n')[0].trim()).join('\n')`), "\n")
	var texts []string
	for r := range rounds { // none is asked twice
		a, b := hottest[3*r], hottest[3*r+1]
		texts = append(texts,
			"function is "+a, "not function is "+b, []string{"code is own", "code is library", "code is own, library"}[r], "top is "+a, fmt.Sprintf("thread is worker-%d", 3+r), fmt.Sprintf("thread is worker-%d, worker-5", 1+r),
			fmt.Sprintf("label page is %d", 4+r), fmt.Sprintf("span is draw and time from %d s", 1+r), fmt.Sprintf("time from %d s to %d s", 1+r, 3+r), fmt.Sprintf("code is not kernel and thread is not worker-%d", 2+r), fmt.Sprintf("module is libstave.so.2 and not top is %s", b),
			[]string{`function matches "Route"`, `function matches "^[a-m].*Place"`, `function matches "Draw|Read"`}[r], []string{"path is *Read* > *Place*", "path is *Draw* > *Route*", "path is *e* > *Lift* > *r*"}[r],
			fmt.Sprintf("label page is %d, 2, 3 and code is own, library", 5+r), fmt.Sprintf("function is %s and thread is worker-1, worker-%d, worker-3", a, 4+r))
	}
	for i, text := range texts {
		before := value[string](p, total)
		value[any](p, keydown("="))
		p.until("the editor", `document.querySelector('[data-test=scope-editor] input')`)
		if i%2 == 0 {
			timed("changing the scope with the last letter typed", text, write(text)+";"+enter, fmt.Sprintf("%s !== %q", total, before))
		} else {
			value[any](p, write(text))
			p.until("what it would keep", `document.querySelector('[data-test=would-keep]')`)
			timed("changing the scope that was typed", text, enter, fmt.Sprintf("%s !== %q", total, before))
		}
		p.until("the list to follow", `document.querySelectorAll('[data-test=hot-row]').length > 0`)
	}
	value[any](p, keydown("="))
	p.until("the editor", `document.querySelector('[data-test=scope-editor] input')`)
	narrow := value[string](p, total)
	value[any](p, write("")+";"+enter)
	p.until("the whole", fmt.Sprintf("%s !== %q", total, narrow))
	for r := range rounds {
		if r > 0 { // another scope, so that lenses have to ask again
			before := value[string](p, total)
			value[any](p, scoped(0.1*float64(r), 0.8))
			p.until("less", total+" !== '"+before+"'")
		}
		for _, lens := range []struct{ key, seen string }{
			{"2", `document.querySelectorAll('[data-test=hot-full]').length > 5`}, {"3", `document.querySelectorAll('[data-test=path]').length > 0`},
			{"1", `document.querySelector('[data-test=flame]')?.dataset.frames > 10`}, {"4", `document.querySelector('[data-test=neighbours]')`},
			{"2", `document.querySelectorAll('[data-test=hot-full]').length > 5`}, {"1", `document.querySelector('[data-test=flame]')?.dataset.frames > 10`},
			{"2", `document.querySelectorAll('[data-test=hot-full]').length > 5`}, {"3", `document.querySelectorAll('[data-test=path]').length > 0`},
			{"1", `document.querySelector('[data-test=flame]')?.dataset.frames > 10`}, {"3", `document.querySelectorAll('[data-test=path]').length > 0`},
			{"2", `document.querySelectorAll('[data-test=hot-full]').length > 5`}, {"1", `document.querySelector('[data-test=flame]')?.dataset.frames > 10`},
		} {
			timed("changing the lens", "lens "+lens.key, keydown(lens.key), lens.seen)
		}
	}
	// The pointer moves over the flame for two seconds, a step each frame.
	frames := value[[]float64](p, `(async () => {
		const c = document.querySelector('[data-test=flame]'), r = c.getBoundingClientRect(), out = []
		let last = await new Promise(requestAnimationFrame)
		const begin = last
		for (let i = 0; last - begin < 2000; i++) {
			c.dispatchEvent(new MouseEvent('mousemove', { clientX: r.left + (i * 7) % r.width, clientY: r.top + 10 + (i * 3) % 300, bubbles: true }))
			const now = await new Promise(requestAnimationFrame)
			out.push(now - last)
			last = now
		}
		return out
	})()`)
	figures["between two paintings, the pointer moving"] = frames
	if samples <= 1_000_000 {
		figures["two takes compared, cold, from the address on"] = []float64{p.comparedLarge(samples, stacks)}
	}
	memory := value[float64](p, `performance.memory?.usedJSHeapSize ?? 0`) / (1 << 20)
	if memory > 300 {
		t.Errorf("the page's memory is %.0f MB", memory)
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, "\n### %d samples on %d distinct stacks (%.1f MB)\n\n| what | times | median, ms | of it asking the server | 95th percentile, ms | longest, ms |\n|---|---|---|---|---|---|\n", samples, stacks, float64(about.Size())/(1<<20))
	names := make([]string, 0, len(figures))
	for name := range figures {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		v := slices.Clone(figures[name])
		slices.Sort(v)
		server := ""
		if w := slices.Clone(waits[name]); len(w) > 0 {
			slices.Sort(w)
			server = fmt.Sprintf("%.0f", w[len(w)/2])
		}
		fmt.Fprintf(&out, "| %s | %d | %.0f | %s | %.0f | %.0f |\n", name, len(v), v[len(v)/2], server, v[int(math.Ceil(0.95*float64(len(v))))-1], v[len(v)-1])
	}
	fmt.Fprintf(&out, "\nThe page's memory (its JavaScript heap) was %.0f MB.\n", memory)
	return out.String()
}
