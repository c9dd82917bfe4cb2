package e2e

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

const (
	height = "entelon/demo/engraved/slur.(*Skyline).Height"
	told   = `(document.querySelector('[data-test=told] [data-name]')?.dataset.name ?? '')`
)

// query returns a word of the page's address.
func (p *page) query(name string) string {
	p.t.Helper()
	return value[string](p, fmt.Sprintf(`new URLSearchParams(location.search).get(%q) ?? ''`, name))
}

// frame returns where a function's widest frame is drawn, found as a reader
// finds it: by pointing and reading the line below the flame.
func (p *page) frame(name string) (x, y float64) {
	p.t.Helper()
	p.until("the flame", `document.querySelector('[data-test=flame]')?.dataset.frames > 1`)
	type point struct{ X, Y float64 }
	at := value[*point](p, fmt.Sprintf(`(async () => {
		const canvas = document.querySelector('[data-test=flame]')
		const r = canvas.getBoundingClientRect()
		for (let tries = 0; tries < 40; tries++) {
			for (let y = r.top + 10; y < r.bottom; y += 21)
				for (let x = r.left + 8; x < r.right; x += 23) {
					canvas.dispatchEvent(new MouseEvent('mousemove', { clientX: x, clientY: y, bubbles: true }))
					await Promise.resolve(); await Promise.resolve()
					await new Promise(r => setTimeout(r, 0))
					if (%s === %q) return { X: x, Y: y }
				}
		}
		return null
	})()`, told, name))
	if at == nil {
		p.t.Fatalf("no frame of %s was found by pointing", name)
	}
	return at.X, at.Y
}

func TestOpenDiveClimb(t *testing.T) {
	p := newPage(t)
	p.visit("/programs")
	p.says("engraved")
	p.do("opening the newest take of 3.5.0", chromedp.Click(`//a[normalize-space()="3.5.0"]`, chromedp.NodeVisible))
	p.says("100 % =")
	p.says("itself takes")
	x, y := p.frame("entelon/demo/engraved/slur.Route")
	p.do("following it", chromedp.MouseClickXY(x, y))
	p.until("the focus in the address", `new URLSearchParams(location.search).get('focus') === 'entelon/demo/engraved/slur.Route'`)
	p.until("its card", `document.querySelector('[data-test=card] h2')?.innerText === 'slur.Route'`)
	p.key("\r")
	p.until("the dive in the address", `Number(new URLSearchParams(location.search).get('root')) > 0`)
	p.until("the frames above", `document.querySelector('[aria-label="Frames above"]')?.innerText.includes('main.Engrave')`)
	// The address alone brings the same view back.
	here := value[string](p, "location.href")
	p.do("opening the address again", chromedp.Navigate(here))
	p.until("the frames above", `document.querySelector('[aria-label="Frames above"]')?.innerText.includes('main.Engrave')`)
	p.until("the same card", `document.querySelector('[data-test=card] h2')?.innerText === 'slur.Route'`)
	p.key("\b")
	p.until("one step up", `document.querySelector('[aria-label="Frames above"]') && !document.querySelector('[aria-label="Frames above"]').innerText.includes('main.Engrave')`)
	p.key(kb.Escape)
	p.until("the whole again", `!new URLSearchParams(location.search).get('root')`)
}

func TestSearchShowsWhatMatchesCover(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	p.key("/")
	p.do("typing", chromedp.SendKeys(`input[aria-label="Search frames"]`, "skyline"))
	p.until("the share of the matches", `/\d+ frames cover 1\d\.\d/.test(document.body.innerText)`)
	p.do("stepping to the first match", chromedp.SendKeys(`input[aria-label="Search frames"]`, "\r"))
	p.until("the match in focus", fmt.Sprintf(`new URLSearchParams(location.search).get('focus')?.includes(%q)`, "Skyline"))
	if q := p.query("search"); q != "skyline" {
		t.Errorf("the address has the search %q", q)
	}
	p.visit("/takes/" + takeOf(t, "3.5.0") + "?search=nobodyhasthis")
	p.says("no frame matches")
}

func TestKeyboardWalksTheFlame(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.until("the flame", `document.querySelector('[data-test=flame]')?.dataset.frames > 1`)
	p.says("itself takes")
	for range 12 { // down the heaviest path, past the root
		p.key(kb.ArrowDown)
	}
	p.until("a frame deep down", fmt.Sprintf(`%s.includes('engraved/')`, told))
	deep := p.query("focus")
	p.key(kb.ArrowUp)
	p.until("its caller", fmt.Sprintf(`new URLSearchParams(location.search).get('focus') !== %q`, deep))
	p.key(",")
	p.until("the earlier focus", fmt.Sprintf(`new URLSearchParams(location.search).get('focus') === %q`, deep))
	p.key("u")
	p.says("grows up")
	p.key("?")
	p.until("the keys", `document.querySelector('[role=dialog]')?.innerText.includes('Backspace')`)
}

// TestFollowIntoTheComparison: the focus holds from the take to the comparison
// and back, on the other side.
func TestFollowIntoTheComparison(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	p.do("choosing the hottest", chromedp.Click(`//*[@data-test="hot-row" and contains(., "Skyline).Height")]`, chromedp.NodeVisible)) // pins of other tests may stand before it
	p.until("its callers", `document.querySelector('[data-test=card]').innerText.includes('slur.clearance')`)
	p.click(`[data-test=follow]`)
	p.until("the comparison", `location.pathname === '/compare'`)
	p.until("its place in both flames", `Number(document.querySelector('[data-test=mirror]')?.dataset.frames) > 10 && document.querySelector('[data-test=both-card] h2')?.innerText.includes('Height')`)
	p.key("2")
	p.until("the focused row, among the first", `[...document.querySelectorAll('[data-test=difference]')].slice(0, 4).some(e => e.innerText.includes('(*Skyline).H') && e.className.includes('border-l-focus'))`) // pins of other tests may stand before it
	baseline := p.query("baseline")
	p.key("x")
	p.until("the sides exchanged", fmt.Sprintf(`new URLSearchParams(location.search).get('candidate') === %q`, baseline))
	p.until("the other verdict", `document.querySelector('[data-test=verdict]')?.innerText.includes('faster')`)
	p.do("opening the older side", chromedp.Click(`//a[normalize-space()="In 3.4.0"]`, chromedp.NodeVisible))
	p.until("the take of the older build", `location.pathname.startsWith('/takes/') && document.querySelector('[data-test=card] h2')?.innerText.includes('Height')`)
	if f := p.query("focus"); f != height {
		t.Errorf("the focus became %q", f)
	}
}

func TestUpload(t *testing.T) {
	whole, err := os.ReadFile("../demo/takes/engraved-3.4.0-1.take")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	put := func(name string, b []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, b, 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	harmed := append([]byte(nil), whole...)
	harmed[len(harmed)/2] ^= 0xff
	p := newPage(t)
	p.visit("/takes")
	p.says("46 takes")
	p.do("adding a file that is there", chromedp.SetUploadFiles(`input[type=file]`, []string{put("again.take", whole)}))
	p.says("again.take was here already")
	p.do("adding bad files", chromedp.SetUploadFiles(`input[type=file]`, []string{put("harmed.take", harmed), put("notes.take", []byte("dear reader"))}))
	p.until("an error for each", `[...document.querySelectorAll('[role=alert]')].filter(e => e.innerText.includes('damaged') || e.innerText.includes('not a take')).length === 2`)
	p.says("harmed.take: the take is damaged (block")
	p.says("46 takes")

	// One that is new: remove a take, add its file again, by dropping it.
	p.key("/")
	p.do("searching", chromedp.SendKeys(`input[aria-label="Search takes"]`, "3.4.0"))
	p.until("seven rows", `document.querySelectorAll("[role=table] [role=row]").length === 8`)
	p.do("removing", chromedp.Click(`[aria-label="Remove the take of engraved 3.4.0"]`))
	p.says("is removed")
	p.do("undoing", chromedp.Click(`//button[normalize-space()="Undo"]`, chromedp.NodeVisible))
	p.until("it is back", `document.querySelectorAll("[role=table] [role=row]").length === 8`)
}

func TestDropAndRemove(t *testing.T) {
	p := newPage(t)
	p.visit("/takes")
	p.says("46 takes")
	key := takeOf(t, "3.4.0")
	status := value[int](p, fmt.Sprintf(`(async () => {
		const file = await (await fetch('/api/v1/takes/%[1]s/file')).blob()
		const gone = await fetch('/api/v1/takes/%[1]s', { method: 'DELETE' })
		const drop = new DataTransfer()
		drop.items.add(new File([file], 'dropped.take'))
		const page = document.querySelector('main > div > div')
		for (const type of ['dragenter', 'dragover', 'drop'])
			page.dispatchEvent(new DragEvent(type, { dataTransfer: drop, bubbles: true, cancelable: true }))
		return gone.status
	})()`, key))
	if status != 204 {
		t.Fatalf("removing answered %d", status)
	}
	p.says("dropped.take was added")
	p.says("46 takes")
}

// TestRibbonRestrictsTheTime: dragging over the ribbon changes what 100 % is.
func TestRibbonRestrictsTheTime(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	const whole = `document.querySelector('[data-test=whole]').innerText`
	before := value[string](p, whole)
	p.until("the ribbon", `document.querySelector('[data-test=ribbon]')?.dataset.ready === 'true'`)
	value[bool](p, `(() => {
		const el = document.querySelector('[data-test=ribbon]')
		el.setPointerCapture = () => {}
		const r = el.getBoundingClientRect()
		const at = (type, share) => el.dispatchEvent(new PointerEvent(type, { clientX: r.left + share * r.width, clientY: r.top + 20, bubbles: true, pointerId: 1 }))
		at('pointerdown', 0.25); at('pointermove', 0.5); at('pointerup', 0.5)
		return true
	})()`)
	p.until("less than before", fmt.Sprintf(`new URLSearchParams(location.search).get('scope')?.startsWith('time from') && %s !== %q`, whole, before))
	p.until("a release", `document.querySelector('[aria-label^="Remove: time from"]')`)
	p.click(`[aria-label^="Remove: time from"]`)
	p.until("all of it again", fmt.Sprintf(`%s === %q`, whole, before))
}

func TestNoteAndFacts(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "3.5.0"))
	p.says("itself takes")
	p.do("opening the facts", chromedp.Click(`//button[normalize-space()="Facts"]`, chromedp.NodeVisible))
	p.until("the facts", `document.querySelector('[role=dialog]')?.innerText.includes('Whole stacks')`)
	p.do("writing", chromedp.SendKeys(`textarea`, " <i>checked</i>"))
	p.do("keeping", chromedp.Click(`//button[normalize-space()="Keep the note"]`, chromedp.NodeVisible))
	p.says("The note was kept.")
	p.do("undoing", chromedp.Click(`//button[normalize-space()="Undo"]`, chromedp.NodeVisible))
	p.until("the note as it was", `fetch('/api/v1/takes?search=checked').then(r => r.json()).then(r => r.count === 0)`)
}

func TestErrorsAreShown(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/nosuchtake")
	p.until("what is wrong", `document.querySelector('[role=alert]')?.innerText.includes('there is no such take')`)
	p.visit("/compare?baseline=" + takeOf(t, "3.4.0") + "&candidate=nosuchtake")
	p.until("which side is wrong", `document.querySelector('[role=alert]')?.innerText.includes('candidate: there is no such take')`)
	p.visit("/takes/" + takeOf(t, "3.4.0") + "?focus=" + url.QueryEscape("no.such.Function"))
	p.says("no.such.Function has no samples in this scope")
	p.visit("/no/such/page")
	p.says("There is no such page")
}

// TestRuntimeFolds: one choice counts the interpreter's own functions as those of
// the Python code that they run, the sentence says so, and one takes it back.
func TestRuntimeFolds(t *testing.T) {
	p := newPage(t)
	p.visit("/takes/" + takeOf(t, "1.5.0"))
	p.says("100 % =")
	whole := value[string](p, `document.querySelector('[data-test=whole]').innerText`)
	p.until("the flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 0`)
	frames := value[int](p, `Number(document.querySelector('[data-test=flame]').dataset.frames)`)
	p.do("opening the shapes", chromedp.Click(`//button[normalize-space()="Shape"]`, chromedp.NodeVisible))
	p.do("folding the runtime", chromedp.Click(`//button[contains(., "The runtime folded into its callers")]`, chromedp.NodeVisible))
	p.says("the runtime folded")
	p.until("fewer frames", fmt.Sprintf(`Number(document.querySelector('[data-test=flame]').dataset.frames) < %d`, frames))
	if got := value[string](p, `document.querySelector('[data-test=whole]').innerText`); got != whole {
		t.Errorf("folded, it says %q; before, %q", got, whole)
	}
	if q := p.query("fold"); q != "runtime" {
		t.Errorf("the address says fold=%s", q)
	}
	x, y := p.frame("note")
	p.do("click a Python frame", chromedp.MouseClickXY(x, y))
	p.until("it is in focus", `document.querySelector('[data-test=told]').innerText.includes('interpreted')`)
	p.says("interpreter’s frames")
	p.click(`[aria-label="Unfold"]`)
	p.until("all frames", fmt.Sprintf(`Number(document.querySelector('[data-test=flame]').dataset.frames) === %d`, frames))
}

// TestNotes: a note on a function stands on its card in every take of the
// program and in the report, as Markdown, and nothing in it runs.
func TestNotes(t *testing.T) {
	p := newPage(t)
	old := takeOf(t, "3.4.0")
	p.visit("/takes/" + takeOf(t, "3.5.0") + "?focus=" + url.QueryEscape("entelon/demo/engraved/slur.Route"))
	p.says("itself takes")
	p.key("n")
	p.until("the notes", `document.querySelector('[role=dialog]')?.innerText.includes('No notes yet')`)
	p.do("writing", chromedp.SendKeys(`textarea`, "asks **too often** <img src=x onerror=\"window.ran=1\"> [x](javascript:window.ran=1)"))
	p.do("keeping", chromedp.Click(`//button[normalize-space()="Keep the note"]`, chromedp.NodeVisible))
	p.until("the note", `document.querySelector('[data-test=note] strong')?.innerText === 'too often'`)
	if value[bool](p, `!!document.querySelector('[data-test=note] img') || [...document.querySelectorAll('[data-test=note] a')].some(a => a.href.startsWith('javascript')) || window.ran === 1`) {
		t.Error("HTML or a script came through")
	}
	p.visit("/takes/" + old + "?focus=" + url.QueryEscape("entelon/demo/engraved/slur.Route"))
	p.until("it on the card of another build", `document.querySelector('[data-test=card] .note strong')?.innerText === 'too often'`)
	if report := value[string](p, `fetch('/api/v1' + location.pathname + '/report.html').then(r => r.text())`); !strings.Contains(report, "<strong>too often</strong>") || strings.Contains(report, "onerror=") {
		t.Error("the report lacks the note, or has more of it than it should")
	}
	p.key("n")
	p.until("the notes", `document.querySelector('[data-test=note]')`)
	p.click(`[aria-label="Remove the note"]`)
	p.until("it gone", `document.querySelector('[data-test=card] h2') && !document.querySelector('[data-test=card] .note')`)
	p.do("undoing", chromedp.Click(`//button[normalize-space()="Undo"]`, chromedp.NodeVisible))
	p.until("it back", `document.querySelector('[data-test=card] .note strong')?.innerText === 'too often'`)
	p.key("n")
	p.until("the notes", `document.querySelector('[data-test=note]')`)
	p.click(`[aria-label="Remove the note"]`)
	p.until("it gone for good", `!document.querySelector('[data-test=card] .note')`)
}
