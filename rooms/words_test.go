package rooms

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// TestReasonsHaveWords: the page has words for every reason of a suspect, by the very text that
// the computation gives it.
func TestReasonsHaveWords(t *testing.T) {
	source, err := os.ReadFile("../core/compare/suspects.go")
	if err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile("../web/src/compare/SuspectList.vue")
	if err != nil {
		t.Fatal(err)
	}
	found := regexp.MustCompile(`(?m)^\t\w+ +Why = "([^"]+)"`).FindAllStringSubmatch(string(source), -1)
	if len(found) < 10 {
		t.Fatalf("%d reasons", len(found))
	}
	for _, m := range found {
		if !strings.Contains(string(page), "\n  '"+m[1]+"': (") && !strings.Contains(string(page), "\n  "+m[1]+": (") {
			t.Errorf("the page has no words for %q", m[1])
		}
	}
}
