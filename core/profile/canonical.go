package profile

// Canonical maps every function to the first one with its name and module, so
// that one function that was described in two ways is one.
func Canonical(p *Profile) []FunctionID {
	type key struct {
		name   StringID
		module ModuleID
	}
	first := make(map[key]FunctionID, len(p.Functions))
	out := make([]FunctionID, len(p.Functions))
	for i, f := range p.Functions {
		k := key{f.Name, f.Module}
		id, ok := first[k]
		if !ok {
			id = FunctionID(i)
			first[k] = id
		}
		out[i] = id
	}
	return out
}
