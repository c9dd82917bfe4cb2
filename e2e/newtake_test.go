package e2e

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// service runs the demo's service until the test is over. It is not left running
// beside the other tests, which measure.
func service(t *testing.T) {
	t.Helper()
	cmd := exec.Command("../bin/engraved-3.5.0", "--drive", "--workers", "1")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
}

// mustCollect leaves a test out where the collector cannot sample.
func mustCollect(p *page) {
	p.t.Helper()
	p.visit("/machines")
	p.says("Collector connected")
	if value[bool](p, `[...document.querySelectorAll('tr')].some(r => r.innerText.includes('Sampling') && r.innerText.startsWith('no'))`) {
		p.t.Skip("this machine does not allow sampling")
	}
}

func (p *page) remove(key string) {
	p.t.Helper()
	if status := value[int](p, fmt.Sprintf(`fetch('/api/v1/takes/%s', { method: 'DELETE' }).then(r => r.status)`, key)); status != 204 {
		p.t.Errorf("removing the take answered %d", status)
	}
}

// TestAttachAndTakeAgain: somebody attaches to the running service, sees the
// flame graph grow and the sign on every page, stops, presses r, and has two
// comparable takes without typing anything.
func TestAttachAndTakeAgain(t *testing.T) {
	service(t)
	p := newPage(t)
	mustCollect(p)
	p.visit("/programs")
	p.click("a[href='/new']")
	const running = `[...document.querySelectorAll('[data-test=process]')].find(e => e.innerText.includes('--drive'))`
	p.until("the running service", running)
	value[any](p, running+`.click()`)
	p.says("1 chosen")
	p.click("[data-test=start]")
	p.until("the page of the take", `location.pathname.startsWith('/running/')`)
	watching := value[string](p, "location.pathname")
	p.until("a flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)
	first := value[float64](p, `parseFloat(document.querySelector('[data-test=elapsed]').innerText)`)
	p.until("it goes on", fmt.Sprintf(`parseFloat(document.querySelector('[data-test=elapsed]').innerText) > %v + 2`, first))
	if *shots != "" {
		p.picture(filepath.Join(*shots, "running.png"))
	}
	p.visit("/takes")
	p.until("the sign on another page", `document.querySelector('[data-test=sampling]')?.innerText.includes('Sampling')`)
	p.visit(watching)
	p.until("the button", `document.querySelector('[data-test=stop]')`)
	p.click("[data-test=stop]")
	p.until("the take", `location.pathname.startsWith('/takes/') && document.body.innerText.includes('100 % =')`)
	older := strings.TrimPrefix(value[string](p, "location.pathname"), "/takes/")
	defer p.remove(older)
	p.says("engraved")
	p.until("the flame of the take", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)

	if build := value[string](p, fmt.Sprintf(`fetch('/api/v1/takes/%s').then(r => r.json()).then(d => d.take.program + ' ' + d.take.build)`, older)); build != "engraved 3.5.0" {
		t.Errorf("it is kept as %s", build) // the binary is the one of the demo's takes
	}

	// Calls are counted where the take was made.
	p.visit("/takes/" + older + "?focus=entelon%2Fdemo%2Fengraved%2Fbeam.Group")
	p.until("the offer to count", `document.querySelector('[data-test=count]')`)
	p.click("[data-test=count]")
	p.until("the calls with their caller", `/[0-9]+ calls in/.test(document.querySelector('[data-test=counted]')?.innerText) && document.querySelector('[data-test=counted]').innerText.includes('main.Engrave')`)

	p.key("r")
	p.until("sampling again", `location.pathname.startsWith('/running/')`)
	p.until("a flame again", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)
	p.click("[data-test=stop]")
	p.until("the second take", fmt.Sprintf(`location.pathname.startsWith('/takes/') && !location.pathname.includes(%q) && document.body.innerText.includes('100 %% =')`, older))
	newer := strings.TrimPrefix(value[string](p, "location.pathname"), "/takes/")
	defer p.remove(newer)
	p.visit(fmt.Sprintf("/compare?baseline=%s&candidate=%s", older, newer))
	p.says("What explains the difference")
	p.until("the sign is gone", `!document.querySelector('[data-test=sampling]')`)
}

// TestLaunchFromThePage: a command with quotes in it runs as it was written,
// without a shell, with several measures; a command that is not there says so.
func TestLaunchFromThePage(t *testing.T) {
	p := newPage(t)
	mustCollect(p)
	p.visit("/new")
	p.do("choosing a command", chromedp.Click(`//button[normalize-space()="A command"]`, chromedp.NodeVisible))
	p.do("writing it", chromedp.SendKeys("input[placeholder*='engraved']", `sh -c 'i=0; while [ $i -lt 300000 ]; do i=$((i+1)); done; sleep 0.2' "two words"`))
	p.says("4 words")
	p.do("waiting, too", chromedp.Click(`//label[contains(., "Waiting")]//input`, chromedp.NodeVisible))
	p.click("[data-test=start]")
	p.until("the take", `location.pathname.startsWith('/takes/') && document.body.innerText.includes('100 % =')`)
	key := strings.TrimPrefix(value[string](p, "location.pathname"), "/takes/")
	defer p.remove(key)
	command := value[string](p, fmt.Sprintf(`fetch('/api/v1/takes/%s').then(r => r.json()).then(d => JSON.stringify([d.settings.command, d.measures.map(m => m.name), d.facts.ended_by]))`, key))
	if want := `"two words"],["cpu","waiting"],"exit"]`; !strings.HasSuffix(command, want) || !strings.HasPrefix(command, `[["sh","-c","i=0; while [ $i`) {
		t.Errorf("it was kept as %s", command)
	}
	p.visit("/takes/" + key + "?measure=waiting")
	p.says("[sleeps]")

	// The settings are remembered; only some samples are kept, and two takes are
	// made in a row.
	p.visit("/new")
	p.until("what was measured before", `[...document.querySelectorAll('input[type=checkbox]')].filter(e => e.checked).length === 2`)
	p.do("choosing a command", chromedp.Click(`//button[normalize-space()="A command"]`, chromedp.NodeVisible))
	p.write("Which samples to keep", "thread is sh")
	p.write("Takes in a row", "2")
	p.click("[data-test=start]")
	p.until("the second take", `location.pathname.startsWith('/takes/') && document.body.innerText.includes('100 % =')`)
	second := strings.TrimPrefix(value[string](p, "location.pathname"), "/takes/")
	defer p.remove(second)
	p.visit("/takes")
	p.until("both takes of the row", `['1 of 2', '2 of 2'].every(x => document.body.innerText.includes(x))`)
	p.do("showing the row", chromedp.Click(`//button[normalize-space()="1 of 2"]`, chromedp.NodeVisible))
	p.until("only the row", `document.querySelectorAll('[role=table] [role=row]').length === 3`)
	first := value[string](p, `[...document.querySelectorAll('[role=row] a')].map(a => a.pathname.slice(7)).find(k => k !== '`+second+`')`)
	defer p.remove(first)
	if kept := value[string](p, fmt.Sprintf(`fetch('/api/v1/takes/%s').then(r => r.json()).then(d => d.settings.keep + ' ' + d.settings.turn)`, first)); kept != "thread is sh 1" {
		t.Errorf("the first of the row: %s", kept)
	}

	p.visit("/new")
	p.do("choosing a command", chromedp.Click(`//button[normalize-space()="A command"]`, chromedp.NodeVisible))
	// The one from before is offered; it gives way.
	p.until("the field", `document.querySelector("input[placeholder*='engraved']")?.value.startsWith('sh -c')`)
	value[any](p, `(e => { e.value = ''; e.dispatchEvent(new Event('input')) })(document.querySelector("input[placeholder*='engraved']"))`)
	p.do("one that is not there", chromedp.Focus("input[placeholder*='engraved']"), chromedp.SendKeys("input[placeholder*='engraved']", `/no/such/program`))
	p.click("[data-test=start]")
	p.says("/no/such/program: the command was not found")
}

// TestTwoCommandsInTurns: a command is held against another one from the page, in
// turns, and what comes of it is compared.
func TestTwoCommandsInTurns(t *testing.T) {
	p := newPage(t)
	mustCollect(p)
	p.visit("/new")
	p.do("choosing a command", chromedp.Click(`//button[normalize-space()="A command"]`, chromedp.NodeVisible))
	work := func(n int) string { return fmt.Sprintf(`sh -c "i=0; while [ \$i -lt %d ]; do i=\$((i+1)); done"`, n) }
	p.until("the field", `document.querySelector("input[placeholder*='engraved']")`)
	value[any](p, `(e => { e.value = ''; e.dispatchEvent(new Event('input')) })(document.querySelector("input[placeholder*='engraved']"))`)
	p.do("writing it", chromedp.SendKeys("input[placeholder*='engraved']", work(900_000)))
	p.write("Baseline", work(300_000))
	p.says("take turns")
	p.write("Takes in a row", "3")
	p.write("Which samples to keep", " ")
	p.click("[data-test=start]")
	p.says("take 1 of 6, of the baseline")
	p.within(2*time.Minute, "the comparison", `location.pathname === '/compare' && document.querySelector('[data-test=verdict]')`)
	keys := strings.Split(value[string](p, `(q => q.get('baseline') + ',' + q.get('candidate'))(new URLSearchParams(location.search))`), ",")
	t.Cleanup(func() {
		q := newPage(t)
		q.visit("/takes")
		for _, k := range keys {
			q.remove(k)
		}
	})
	if len(keys) != 6 {
		t.Fatalf("there are %d takes", len(keys))
	}
	p.until("the verdict", `document.body.innerText.includes('the candidate takes') && document.body.innerText.includes('the baseline')`)
	whole := value[string](p, `fetch('/api/v1/compare' + location.search).then(r => r.json()).then(d => d.whole.verdict + ' ' + (d.whole.ratio > 2 && d.whole.ratio < 4.5))`)
	if whole != "slower true" {
		t.Errorf("three times the work: %s", whole)
	}
	p.visit("/takes?series=" + value[string](p, fmt.Sprintf(`fetch('/api/v1/takes/%s').then(r => r.json()).then(d => d.settings.series)`, keys[0])))
	p.do("comparing the sides of the row", chromedp.Click(`//a[normalize-space()="compare its sides"]`, chromedp.NodeVisible))
	p.until("the comparison again", `location.pathname === '/compare' && document.querySelector('[data-test=verdict]')`)

	// The same until it is decided: three times the work is soon seen.
	p.visit("/new")
	p.until("the baseline from before", `document.querySelector('input[aria-label=Baseline]')?.value.startsWith('sh -c')`)
	p.do("when it ends", chromedp.Click(`//button[starts-with(@aria-label, "When the row ends")]`, chromedp.NodeVisible))
	p.do("once it is decided", chromedp.Click(`//li[normalize-space()="when the difference is decided"]`, chromedp.NodeVisible))
	p.write("Within percent", "10")
	p.says("pairs at most")
	p.looked("until")
	p.click("[data-test=start]")
	p.says("take 1 of at most 40, of the baseline")
	p.within(2*time.Minute, "the comparison of what was decided", `location.pathname === '/compare' && document.querySelector('[data-test=verdict]')`)
	p.says("decided, slower")
	decided := strings.Split(value[string](p, `(q => q.get('baseline') + ',' + q.get('candidate'))(new URLSearchParams(location.search))`), ",")
	if keys = append(keys, decided...); len(decided)%2 != 0 || len(decided) < 6 || len(decided) > 20 {
		t.Errorf("%d takes were made until it was decided", len(decided))
	}
}

// write puts a text into the field of a name in place of what is there.
func (p *page) write(name, text string) {
	p.t.Helper()
	selector := fmt.Sprintf("input[aria-label=%q]", name)
	p.until("the field "+name, fmt.Sprintf(`document.querySelector(%q)`, selector))
	value[any](p, fmt.Sprintf(`(e => { e.value = ''; e.dispatchEvent(new Event('input')) })(document.querySelector(%q))`, selector))
	p.do("writing "+text, chromedp.SendKeys(selector, text))
}
