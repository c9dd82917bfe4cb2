package java

import (
	"testing"
)

func TestJavaNames(t *testing.T) {
	for name, want := range map[string]string{
		"long shop.print.Press.ink(int)":                      "shop.print.Press.ink(int) shop.print own",
		"java.lang.String java.lang.StringBuilder.toString()": "java.lang.StringBuilder.toString() java.lang runtime",
		"void Press.main(java.lang.String[])":                 "Press.main(java.lang.String[]) [java] own",
		"Interpreter":                                         "Interpreter [java] runtime",
		"StubRoutines (1)":                                    "StubRoutines (1) [java] runtime",
		"void shop.Press$Page.turn(java.util.Map, int)":       "shop.Press$Page.turn(java.util.Map, int) shop own",
	} {
		if got := Name(name) + " " + Package(name) + " " + KindOf(name).String(); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}
