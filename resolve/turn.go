package resolve

import (
	"entelon/core/profile"
)

// maxCodes is how many code objects of one interpreter are remembered from one window
// to the next.
const maxCodes = 1 << 16

// Turn ends a window of a long collection: what is resolved from now on goes into a
// profile of its own with the same measures. It returns the profile that has ended, and
// what takes over from it that the caller keeps. What no process uses any more that is
// running or was seen in the window is forgotten, so that a collection holds as much as
// its programs do, however long it lasts.
func (r *Resolver) Turn() (*profile.Profile, profile.Carry) {
	old := r.Builder.Profile()
	b := profile.NewBuilderLike(old)
	c := profile.Carry{From: old, To: b}
	for i := range r.parked {
		x := &r.parked[i]
		x.Seen = Carried(x.Seen, c)
		if x.mark != MarkByStack {
			x.mark = c.Frame(x.mark)
		}
	}
	r.Builder, r.waits = b, nil
	r.names = newNames(b, r.names.world)
	r.cut = [len(r.cut)]int64{}
	clear(r.NoTable)
	clear(r.Unnamed)
	r.Processes.turn(b, len(r.parked) > 0)
	return old, c
}

// Carried is a sample that was seen in one window, in the next one.
func Carried(x Seen, c profile.Carry) Seen {
	x.Thread, x.Stack, x.labels = c.Thread(x.Thread), c.Stack(x.Stack), c.Labels(x.labels)
	kernel := make([]profile.FrameID, 0, len(x.kernel))
	for _, f := range x.kernel {
		kernel = append(kernel, c.Frame(f))
	}
	x.kernel = kernel
	for i := range x.places {
		x.places[i].frame = c.Frame(x.places[i].frame)
	}
	return x
}

// turn forgets the frames of a profile that has ended, and what is of no use any more.
// keep says that samples wait for names, so that nothing is let go of.
func (ps *Processes) turn(b *profile.Builder, keep bool) {
	ps.b, ps.Started = b, 0
	for pid, p := range ps.Known {
		seen := p.idSet
		p.idSet = false
		clear(p.frames)
		clear(p.madeFrames)
		if p.codes != nil {
			p.codes.turn()
		}
		if !keep && !seen && !ps.Alive(pid, pid) {
			p.leaveMade()
			delete(ps.Known, pid)
		}
	}
	for tid, t := range ps.threads {
		if ps.Known[t.pid] == nil || !ps.Alive(t.pid, tid) {
			delete(ps.threads, tid)
		}
	}
	mapped := map[*module]bool{}
	for _, p := range ps.Known {
		for _, m := range p.maps {
			mapped[m.Module] = true
		}
	}
	for key, m := range ps.modules.known {
		clear(m.frames)
		m.idSet = false
		switch {
		case mapped[m]:
			m.unused = false
		case m.unused && !keep: // for a whole window; programs that run again and again come back
			ps.world.Leave(m.Module)
			delete(ps.modules.known, key)
		default:
			m.unused = true
		}
	}
}

// turn forgets frames, and code objects where there are very many.
func (c *pythonCodesRead) turn() {
	clear(c.frames)
	if len(c.known)+len(c.raw) > maxCodes {
		clear(c.known)
		clear(c.raw)
	}
}
