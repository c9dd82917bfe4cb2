package section

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestOnlyTheSectionChanges: what stands around a section stays, whatever is written
// into it and however often.
func TestOnlyTheSectionChanges(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.md")
	const around = "# Title\n\nbefore\n\n<!-- figures: written by make figures -->\n\nold\n\n<!-- end of figures -->\n\nbehind\n"
	if err := os.WriteFile(path, []byte(around), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"one\n\n| a |\n", "two"} {
		if err := Write(path, "figures", "make figures", text); err != nil {
			t.Fatal(err)
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if want := strings.Replace(around, "old", strings.TrimSpace(text), 1); string(b) != want {
			t.Errorf("it is %q, want %q", b, want)
		}
	}
	if err := Write(path, "others", "make figures", "x"); err == nil {
		t.Error("a section that is not there was written")
	}
	if _, there := Find("<!-- figures: written by make figures -->\n no end", "figures", "make figures"); there {
		t.Error("a section without an end was found")
	}
}
