package resolve

import "entelon/core/profile"

// parked is a sample that waits for names, with what it will count as.
type parked struct {
	Seen
	mark   profile.FrameID
	values []int64
}

// NameParked gives names to the samples that waited for them, where all of
// them are there; where wait is set, it waits.
func (r *Resolver) NameParked(wait bool) {
	for n := range r.parked {
		x := &r.parked[n]
		if coming(&x.Seen) {
			if !wait {
				r.parked = append([]parked(nil), r.parked[n:]...)
				return
			}
			await(&x.Seen)
		}
		r.put(x.Seen, r.marked(r.named(&x.Seen), x.mark), x.values)
	}
	r.parked = nil
	r.nameIntervals(wait)
}

// named makes a stack of the places of a sample, whose names are there.
func (r *Resolver) named(x *Seen) profile.StackID {
	var frames []profile.FrameID
	for _, s := range x.places {
		if s.frame != 0 {
			frames = append(frames, s.frame)
			continue
		}
		if s.made {
			if f := r.names.made(x.Of, s.address, x.Time, foundOf[s.found]); f != 0 {
				frames = append(frames, f)
				continue
			}
		}
		frames = append(frames, r.names.atPlace(s)...)
	}
	var last *module
	if len(x.places) > 0 {
		last = x.places[len(x.places)-1].module
	}
	return r.push(x.kernel, frames, x.end, last)
}

func coming(x *Seen) bool {
	if m := x.Of.made; m != nil && m.Coming(x.Time) {
		return true
	}
	for _, s := range x.places {
		if s.module != nil && s.module.Coming() {
			return true
		}
	}
	return false
}

func await(x *Seen) {
	if m := x.Of.made; m != nil {
		m.Await(x.Time)
	}
	for _, s := range x.places {
		if s.module != nil {
			s.module.Await()
		}
	}
}
