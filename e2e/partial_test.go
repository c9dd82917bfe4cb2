package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"

	"entelon/codec/take"
	"entelon/core/measure"
	"entelon/core/profile"
)

// TestATotalThatIsPartial: where events are missing, the total says so on the take itself,
// and the facts say how many, how many have a sample, and what counting cost.
func TestATotalThatIsPartial(t *testing.T) {
	b := profile.NewBuilder()
	b.Column(measure.Column{Name: "faults", Label: "page faults", Unit: measure.Count, Counted: true})
	main := b.Function(profile.Function{Name: b.Intern("plates.press"), Kind: profile.KindOwn})
	process := b.Process(7)
	b.NameProcess(process, "inkraster")
	th := b.Thread(process, 7)
	for i := range int64(40) {
		b.Sample(i*1e6, th, b.Push(0, b.Frame(profile.Frame{Function: main})), 100)
	}
	set := profile.Settings{Program: "inkraster", Build: "1.9.0", Command: []string{"inkraster", "score.pages"}, RateHz: 997, Measures: []string{"faults"}}
	var file bytes.Buffer
	w, err := take.NewWriter(&file, set, profile.Machine{Host: "desk", Kernel: "6.1", Processors: 2})
	if err != nil {
		t.Fatal(err)
	}
	facts := profile.Facts{
		DurationNS: 2e9, CPUNS: 1e9, Samples: 40, EndedBy: "exit", OwnNS: 2e8,
		Counted: []profile.Counting{{Measure: "faults", Events: 4000, Singly: 40, Lost: 75037}},
	}
	facts.Warn("partial", "The total of faults is partial: 75037 of 79037 events (94.9 %) came faster than they could be recorded.", "Collect as root, so that the kernel adds them up and loses none.")
	for _, err := range []error{w.Append(b.Profile()), w.Facts(facts), w.Close()} {
		if err != nil {
			t.Fatal(err)
		}
	}
	path := filepath.Join(t.TempDir(), "partial.take")
	if err := os.WriteFile(path, file.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	p := newPage(t)
	p.visit("/takes")
	p.do("adding it", chromedp.SetUploadFiles(`input[type=file]`, []string{path}))
	p.until("the take in the list", `fetch('/api/v1/takes?search=1.9.0').then(r => r.json()).then(r => r.takes.length === 1 && (location.href = '/takes/' + r.takes[0].key, true))`)
	p.until("the take", `!!document.querySelector('[data-test=partial]')`)
	p.until("how many are missing", `document.querySelector('[data-test=partial]').textContent.replace(/\s/g, ' ').includes('75 037 events are missing')`)
	p.looked("partial")
	p.do("opening the facts", chromedp.Click(`//button[normalize-space()="Facts"]`, chromedp.NodeVisible))
	p.until("how it was counted", `(t => t.includes('faults: 4 000, of which 40 have a sample of their own; partial: 75 037 more are missing') && t.includes("0.20 s of the CPU time was Entelon's own"))(document.querySelector('[role=dialog]')?.innerText.replace(/\s/g, ' ') ?? '')`)
	p.looked("partial-facts")
	at := value[string](p, `location.pathname`)
	p.visit("/programs/inkraster?measure=faults")
	p.until("the ledger says so, too", `document.querySelector('[data-test=build] [data-test=partial]')?.title.replace(/\s/g, ' ').includes('75 037 events')`)
	p.looked("partial-ledger")
	p.visit("/programs/inkraster/function?measure=faults&focus=plates.press")
	p.until("and a function over builds", `!!document.querySelector('[data-test=over-build] [data-test=partial]')`)
	p.visit(at)
	// Others count the takes that are there.
	p.until("it is gone again", `fetch('/api/v1' + location.pathname, {method: 'DELETE'}).then(r => r.ok || r.status === 404)`)
}
