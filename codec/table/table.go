// Package table writes hot functions as comma-separated values (RFC 4180).
package table

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"strings"

	"entelon/codec"
	"entelon/core/calltree"
	"entelon/core/profile"
)

// Encoder is this format among others.
var Encoder = codec.Encoder{
	Name: "table", Ending: ".csv", Type: "text/csv; charset=utf-8", Means: "hot functions as a table",
	Encode: func(w io.Writer, v codec.View) error { return Write(w, v.Tree.Profile, v.Cost, v.Rows()) },
}

// Write writes hot functions, with the unit in the heads of the columns. A text that a spreadsheet would take for a
// formula gets an apostrophe.
func Write(w io.Writer, p *profile.Profile, c *calltree.Cost, rows []calltree.FunctionCost) error {
	unit := p.Words(c.Measure).Unit
	out := csv.NewWriter(w)
	total := float64(max(1, c.Total(0)))
	put := func(cells ...string) {
		for i, s := range cells {
			if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
				cells[i] = "'" + s
			}
		}
		_ = out.Write(cells) // what goes wrong is told at the end
	}
	put("function", "self "+unit, "self share", "total "+unit, "total share", "self samples", "total samples", "module", "code", "file", "line")
	for _, r := range rows {
		f := p.Functions[r.Function]
		line := ""
		if f.Line > 0 {
			line = strconv.FormatUint(uint64(f.Line), 10)
		}
		put(p.FunctionName(r.Function), strconv.FormatInt(r.Self, 10), strconv.FormatFloat(float64(r.Self)/total, 'f', 6, 64), strconv.FormatInt(r.Total, 10), strconv.FormatFloat(float64(r.Total)/total, 'f', 6, 64),
			strconv.FormatInt(r.SelfSamples, 10), strconv.FormatInt(r.TotalSamples, 10), p.ModulePath(r.Function), f.Kind.String(), p.Strings[f.File], line)
	}
	out.Flush()
	if err := out.Error(); err != nil {
		return fmt.Errorf("writing the table: %w", err)
	}
	return nil
}
