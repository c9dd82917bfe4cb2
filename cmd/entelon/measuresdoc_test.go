package main

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"entelon/bench/section"
	"entelon/core/measure"
)

var writeDocs = flag.Bool("write-docs", false, "write what the documents have from the program's tables")

const measuresDoc = "../../docs/measures.md"

// measuresTable is the table of measures as docs/measures.md has it.
func measuresTable() string {
	var b strings.Builder
	b.WriteString("| measure | unit | what it means | cost |\n|---|---|---|---|\n")
	for _, k := range measure.Kinds {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", k.Form(), k.Units(), k.Means, k.Cost)
	}
	return b.String()
}

// TestMeasuresAreDocumented: the document's table is the program's.
func TestMeasuresAreDocumented(t *testing.T) {
	if *writeDocs {
		if err := section.Write(measuresDoc, "table", "make generate", measuresTable()); err != nil {
			t.Fatal(err)
		}
	}
	b, err := os.ReadFile(measuresDoc)
	if err != nil {
		t.Fatal(err)
	}
	if text, there := section.Find(string(b), "table", "make generate"); !there || !strings.Contains(text, measuresTable()) {
		t.Error("docs/measures.md has another table; run make generate")
	}
}
