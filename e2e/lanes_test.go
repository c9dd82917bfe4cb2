package e2e

import (
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// taken adds a take of a program of the command line's tests, and removes it in the end.
func taken(p *page, program string, measures ...string) (key string) {
	t := p.t
	t.Helper()
	dir := t.TempDir()
	binary, file := filepath.Join(dir, program), filepath.Join(dir, program+".take")
	take := []string{"../bin/entelon", "take", "--out", file}
	for _, m := range measures {
		take = append(take, "--measure", m)
	}
	build := []string{"cc", "-g", "-O1", "-fno-omit-frame-pointer", "-pthread", "-o", binary, fmt.Sprintf("../cmd/entelon/testdata/%[1]s/%[1]s.c", program)}
	if _, err := os.Stat("../cmd/entelon/testdata/" + program + "/main.go"); err == nil {
		build = []string{"go", "build", "-o", binary, "../cmd/entelon/testdata/" + program}
	}
	for _, command := range [][]string{build, append(take, "--", binary)} {
		if b, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", command, err, b)
		}
	}
	p.visit("/takes")
	p.until("a place to add files", `document.querySelector('input[type=file]')`)
	p.do("adding it", chromedp.SetUploadFiles(`input[type=file]`, []string{file}))
	found := fmt.Sprintf(`fetch('/api/v1/takes?program=%s').then(r => r.json()).then(r => r.takes[0]?.key ?? '')`, program)
	p.until("it", found)
	key = value[string](p, found)
	t.Cleanup(func() {
		q := newPage(t)
		q.visit("/takes")
		q.remove(key)
	})
	return key
}

// TestLanesLens: a wait for a lock is found, who held it is a key away, and a stretch of time becomes
// the scope.
func TestLanesLens(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("where threads wait is seen by root")
	}
	p := newPage(t)
	key := taken(p, "relay", "cpu", "waiting", "syscalls")
	p.visit("/takes/" + key + "?lens=lanes")
	p.until("the lanes", `['holder', 'waiter', 'writer', 'reader'].every(n => [...document.querySelectorAll('[data-test=lane]')].some(e => e.innerText.includes(n)))`)
	p.until("a picture", `(c => c && c.getContext('2d').getImageData(0, 0, c.width, c.height).data.some((v, i) => i % 4 === 0 && v < 90))(document.querySelector('[data-test=lanes] canvas'))`)
	p.until("what states there are", `['lock', 'input', 'timer'].every(s => [...document.querySelectorAll('[data-test=lane-state]')].some(e => e.innerText.startsWith(s)))`)
	p.looked("lanes")

	// A wait of waiter for the lock, by the API's own word, and not for the barrier between two rounds:
	// the one that took closest to the 2.5 ms that it takes where nothing else runs.
	type wait struct{ Thread, At int64 }
	first := value[wait](p, fmt.Sprintf(`(async key => {
		const d = await fetch(`+"`/api/v1/takes/${key}/lanes?parts=4000`"+`).then(r => r.json())
		const i = d.lanes.findIndex(l => l.thread === 'waiter'), lock = d.states.findIndex(s => s.name === 'lock'), runs = d.rows[i].runs
		const waits = []
		for (let k = 0; k < runs.length; k += 6) if (runs[k + 2] === lock && runs[k + 3] === 1) waits.push([runs[k], runs[k + 1]])
		const off = w => Math.abs(w[1] - w[0] - 2.5e6)
		for (const w of waits.sort((a, b) => off(a) - off(b))) {
			const at = Math.round((w[0] + w[1]) / 2)
			const there = await fetch(`+"`/api/v1/takes/${key}/lanes/at?thread=${d.lanes[i].id}&at=${at}`"+`).then(r => r.json())
			if (!there.stack.some(f => there.functions[f].name.includes('barrier'))) return { Thread: d.lanes[i].id, At: at }
		}
	})('%s')`, key))
	width := value[float64](p, `document.querySelector('[data-test=lanes] canvas').clientWidth`)
	type spot struct{ X, Y, Duration float64 }
	at := value[spot](p, fmt.Sprintf(`fetch('/api/v1/takes/%s/lanes?count=0').then(r => r.json()).then(d => {
		const c = document.querySelector('[data-test=lanes] canvas').getBoundingClientRect()
		const b = [...document.querySelectorAll('[data-test=lane]')].find(e => e.innerText.includes('waiter')).getBoundingClientRect()
		return { X: c.left, Y: b.top + 12, Duration: d.duration_ns }
	})`, key))
	p.do("the wait", chromedp.MouseClickXY(at.X+float64(first.At)/at.Duration*width, at.Y))
	p.until("what it was", `document.querySelector('[data-test=lane-detail]')?.innerText.includes('waits for a lock')`)
	p.until("who held it", `document.querySelector('[data-test=lane-by]')?.innerText.includes('holder')`)
	p.until("where", `document.querySelector('[data-test=lane-detail]').innerText.includes('want_lock') && document.querySelector('[data-test=lane-detail]').innerText.includes('hold_lock')`)
	p.key("z")
	p.until("closer", `/^\d+-\d+$/.test(new URLSearchParams(location.search).get('when') ?? '')`)
	p.looked("lanes-wait")
	p.key("h")
	p.until("what held it up", `(t => t.includes('holder') && t.includes('sleeps') && t.includes('doze'))(document.querySelector('[data-test=lane-path]')?.innerText ?? '')`)
	p.looked("lanes-path")
	p.key(kb.Escape)
	p.until("the wait again", `document.querySelector('[data-test=lane-by]')?.innerText.includes('holder')`)
	p.key("l")
	p.until("the holder", `document.querySelector('[data-test=lane].border-l-ink')?.innerText.includes('holder')`)
	p.key("b")
	p.until("its path", `document.querySelector('[data-test=lane][aria-expanded=true]')`)
	p.until("the samples", `(document.querySelector('[data-test=lane-detail]')?.innerText ?? '').includes('from')`)
	p.key("]")
	p.until("the next", `(document.querySelector('[data-test=lane-detail]')?.innerText ?? '').includes('from')`)
	p.key(kb.Enter)
	p.until("the scope", `(new URLSearchParams(location.search).get('scope') ?? '').startsWith('time from')`)

	p.visit("/takes/" + key + "?lens=lanes")
	p.do("who waits for a lock", chromedp.Click(`//*[@data-test="lane-state"][starts-with(normalize-space(), "lock")]`, chromedp.NodeVisible))
	p.until("the state in the scope", `new URLSearchParams(location.search).get('scope') === 'state is lock'`)
	p.until("it in words", `document.body.innerText.includes('waiting for a lock')`)
	p.until("those who do", `document.querySelectorAll('[data-test=lane]').length === 3`)

	p.visit("/takes/" + key + "?lens=lanes&scope=" + url.QueryEscape("thread is reader"))
	p.until("one lane", `document.querySelectorAll('[data-test=lane]').length === 1`)
	p.until("the others", `document.body.innerText.includes('without anything in scope')`)

	p.visit("/takes/" + takeOf(t, "3.5.0") + "?lens=lanes")
	p.until("what is not known", `document.querySelector('[data-test=lanes-unmeasured]')?.innerText.includes('-m waiting')`)
	p.do("a lane", chromedp.Click(`[data-test=lane]`, chromedp.NodeVisible))
	p.until("its path", `document.querySelector('[data-test=lane][aria-expanded=true]')`)
	p.looked("lanes-samples")
}
