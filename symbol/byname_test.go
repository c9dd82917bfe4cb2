package symbol

import "testing"

func TestWhichFunctionANameMeans(t *testing.T) {
	route := Defined{Name: "entelon/demo/engraved/slur.Route", Linkage: "entelon/demo/engraved/slur.Route"}
	height := Defined{Name: "entelon/demo/engraved/slur.(*Skyline).Height", Linkage: "entelon/demo/engraved/slur.(*Skyline).Height"}
	fill := Defined{Name: "ink::Canvas::fill(double, int) const", Linkage: "_ZNK3ink6Canvas4fillEdi"}
	hidden := Defined{Name: "(anonymous namespace)::draw(int)", Linkage: "_ZN12_GLOBAL__N_14drawEi"}
	for _, c := range []struct {
		name  string
		of    Defined
		means bool
	}{
		{"slur.Route", route, true}, {"entelon/demo/engraved/slur.Route", route, true}, {"Route", route, false}, {"slur.*", route, true}, {"slur.*", height, true}, {"*", route, true},
		{"slur.(*Skyline).Height", height, true}, {"slur.(*Skyline).Heigh", height, false}, {"beam.*", height, false},
		{"ink::Canvas::fill", fill, true}, {"Canvas::fill", fill, true}, {"fill", fill, true}, {"ink::Canvas::fill(double, int) const", fill, true}, {"_ZNK3ink6Canvas4fillEdi", fill, true}, {"ink::Canvas::*", fill, true}, {"Canvas", fill, false},
		{"draw", hidden, true}, {"(anonymous namespace)::draw", hidden, true}, {"[", route, false},
	} {
		if got := meant(c.name, c.of); got != c.means {
			t.Errorf("%q means %s: %v", c.name, c.of.Name, got)
		}
	}
	for name, want := range map[string]string{
		"f": "f", "f()": "f", "a::f(int, b<(int)3>)": "a::f", "g(void (*)(int)) const": "g", "operator()(int)": "operator()", "operator()": "operator()", "slur.(*Skyline).Height": "slur.(*Skyline).Height",
	} {
		if got := withoutParameters(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}
