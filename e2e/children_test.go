package e2e

import (
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestChildrenAreShown: who picks a process that leaves the work to children sees them
// before it starts, chosen, and may leave them out; what was chosen is what is sampled.
func TestChildrenAreShown(t *testing.T) {
	cmd := exec.Command("sh", "-c", "../bin/engraved-3.5.0 --drive --workers 1 & ../bin/engraved-3.5.0 --drive --workers 1 & wait; : head of the shop")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait() // it was killed
	})
	time.Sleep(500 * time.Millisecond) // they have worked by then
	p := newPage(t)
	mustCollect(p)
	pick := func() {
		p.visit("/new")
		p.until("processes", `document.querySelectorAll('[data-test=process]').length > 2`)
		p.do("finding it", chromedp.SendKeys("input[aria-label='Find a process']", "head of the shop"))
		p.until("it alone", `document.querySelectorAll('[data-test=process]').length === 1`)
		p.until("nothing is asked yet", `!document.querySelector('[data-test=children]')`)
		p.click("[data-test=process]")
		p.until("its children", `document.querySelector('[data-test=children]')?.innerText.includes('the 2 children already running: engraved') && document.querySelector('[data-test=children] input').checked`)
	}
	pick()
	p.looked("children")
	p.click("[data-test=start]")
	p.until("the page of the take", `location.pathname.startsWith('/running/')`)
	p.until("a flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)
	p.click("[data-test=stop]")
	p.until("the take", `location.pathname.startsWith('/takes/') && document.body.innerText.includes('100 % =')`)
	key := strings.TrimPrefix(value[string](p, "location.pathname"), "/takes/")
	defer p.remove(key)
	if n := value[int](p, `fetch('/api/v1/takes/`+key+`').then(r => r.json()).then(d => d.settings.pids.length)`); n != 3 {
		t.Errorf("%d processes were attached to, where there are a parent and two children", n)
	}

	pick()
	p.click("[data-test=children] input")
	p.click("[data-test=start]")
	p.until("the page of the take", `location.pathname.startsWith('/running/')`)
	job := "/api/v1/jobs/" + strings.TrimPrefix(value[string](p, "location.pathname"), "/running/")
	p.until("they are left out", `fetch('`+job+`').then(r => r.json()).then(j => j.settings.children === 'no')`)
	p.click("[data-test=stop]")
	p.until("it has ended", `fetch('`+job+`').then(r => r.json()).then(j => j.state === 'done' || j.state === 'failed')`)
	if alone := value[string](p, `fetch('`+job+`').then(r => r.json()).then(j => j.take)`); alone != "" {
		p.remove(alone)
	}
}
