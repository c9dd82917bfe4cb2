package symbol

import (
	"cmp"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"entelon/core/profile"
	"entelon/symbol/location"
)

const callsOthers = `
#include <cstdio>
#include <cmath>
#include <string>
int main(int argc, char **argv) {
	std::string s(argv[0]);
	s.append(std::to_string(std::sin(argc)));
	std::puts(s.c_str());
	void (*volatile later)(const char *) = (void (*)(const char *))std::perror;
	later("end");
	return 0;
}
`

// TestStubs: calls into other files go through stubs, which are called as the
// disassembler calls them, however they were linked.
func TestStubs(t *testing.T) {
	begins := regexp.MustCompile(`(?m)^([0-9a-f]{16}) <([^>+*]+)@plt>:$`)
	for _, flags := range [][]string{{"-O2"}, {"-O2", "-no-pie"}, {"-O2", "-Wl,-z,lazy"}, {"-O2", "-Wl,-z,now", "-fcf-protection=full", "-Wl,-z,ibtplt"}, {"-O2", "-s"}} {
		dir := t.TempDir()
		c, out := filepath.Join(dir, "calls.cpp"), filepath.Join(dir, "calls")
		if err := os.WriteFile(c, []byte(callsOthers), 0o644); err != nil {
			t.Fatal(err)
		}
		run(t, "g++", append(flags, "-o", out, c)...)
		text, err := exec.Command("objdump", "-d", "-j", ".plt", "-j", ".plt.got", "-j", ".plt.sec", out).Output()
		if len(text) == 0 {
			t.Fatal(err)
		}
		o := opened(t, out, profile.KindOwn)
		told := map[string]bool{}
		for _, m := range begins.FindAllStringSubmatch(string(text), -1) {
			addr, err := strconv.ParseUint(m[1], 16, 64)
			if err != nil {
				t.Fatal(err)
			}
			told[m[2]] = true
			l := o.Locate(addr + 2)
			if len(l) != 1 || l[0].Function != addr || l[0].Unnamed || strings.HasPrefix(l[0].Name, "_Z") || !strings.HasSuffix(l[0].Name, location.StubSuffix) {
				t.Fatalf("%v: at %x is %+v", flags, addr, l)
			}
			if got, want := cmp.Or(l[0].Linkage, l[0].Name), m[2]+location.StubSuffix; got != want {
				t.Errorf("%v: at %x is %s, want %s", flags, addr, got, want)
			}
		}
		if !told["puts"] || !told["sin"] {
			t.Errorf("%v: the disassembler tells of %v alone", flags, told)
		}
	}
}

// TestNoStubs: what only looks like a stub has no name.
func TestNoStubs(t *testing.T) {
	for _, code := range [][]byte{nil, {0xff}, {0xff, 0x25, 1, 2, 3}, {0x68, 0, 0, 0, 0, 0xe9, 0, 0, 0, 0, 0x66, 0x90}} {
		if slot, ok := jumpsThrough(code, 0x1000); ok {
			t.Errorf("% x jumps through %x", code, slot)
		}
	}
	if slot, ok := jumpsThrough([]byte{0xf3, 0x0f, 0x1e, 0xfa, 0xff, 0x25, 0xf6, 0xff, 0xff, 0xff}, 0x1000); !ok || slot != 0x1000 {
		t.Errorf("it jumps through %x, %v", slot, ok)
	}
}
