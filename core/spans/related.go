package spans

// traceLength is how much of an identifier names the trace that a span is of.
const traceLength = 32

// Related returns the spans of some processes of a host, of the traces that those take part in, and of senders that
// do not say which process they are.
func Related(told []Told, host string, pids map[uint32]bool) (out []Told) {
	ours := func(s *Told) bool { return pids[s.PID] && s.PID != 0 && (s.Host == "" || s.Host == host) }
	traces := map[string]bool{}
	trace := func(id string) string { return id[:min(len(id), traceLength)] }
	for i := range told {
		if s := &told[i]; ours(s) && s.ID != "" {
			traces[trace(s.ID)] = true
			for _, l := range s.Links {
				traces[trace(l)] = true
			}
		}
	}
	goesOn := func(s *Told) bool {
		for _, l := range s.Links {
			if traces[trace(l)] {
				return true
			}
		}
		return false
	}
	for i := range told {
		if s := &told[i]; s.PID == 0 || ours(s) || s.ID != "" && traces[trace(s.ID)] || goesOn(s) {
			out = append(out, *s)
		}
	}
	return out
}
