package web_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"entelon/codec/picture"
	"entelon/core/calltree"
	"entelon/core/measure"
	"entelon/core/scope"
)

// parityScript makes modules of the page's pure code and answers questions with them.
const parityScript = `
import fs from 'node:fs'
import { createRequire } from 'node:module'
const [lib, out, modules] = process.argv.slice(2)
const ts = createRequire(modules + '/x.js')('typescript')
const load = async (name) => {
  const text = ts.transpileModule(fs.readFileSync(lib + '/' + name + '.ts', 'utf8'), { compilerOptions: { module: 'ESNext', target: 'ES2022' } }).outputText
  fs.writeFileSync(out + '/' + name + '.mjs', text)
  return import(out + '/' + name + '.mjs')
}
const { amount } = await load('format')
const { inkOf } = await load('palette')
const { halfWidth } = await load('interval')
const { timeText } = await load('scopeText')
const q = JSON.parse(fs.readFileSync(0, 'utf8'))
console.log(JSON.stringify({
  amounts: q.amounts.map((x) => amount(x.value, x.unit)),
  inks: q.inks.map((x) => inkOf(x.kind, x.area, false, x.native)),
  halves: q.shares.map((x) => halfWidth(x.k, x.n)),
  times: q.times.map((x) => timeText(x)),
}))
`

type question struct {
	Amounts []amountOf `json:"amounts"`
	Inks    []inkOf    `json:"inks"`
	Shares  []share    `json:"shares"`
	Times   []int64    `json:"times"`
}

type amountOf struct {
	Value int64  `json:"value"`
	Unit  string `json:"unit"`
}

type inkOf struct {
	Kind   string `json:"kind"`
	Area   string `json:"area"`
	Native bool   `json:"native"`
}

type share struct {
	K int64 `json:"k"`
	N int64 `json:"n"`
}

// TestOneSource: what the page works out itself, amounts with their units, colours,
// intervals and times of the scope language, is what the server says of the same.
func TestOneSource(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var q question
	for _, unit := range []string{"ns", "bytes", "count"} {
		for _, v := range []int64{0, 1, 999, 1000, 1023, 1024, 9_994_999, 9_995_000, 9_995_001, 99_950_000, 999_499_999, 999_500_000, 1e9, 2_500_000_000, 1<<20 - 1, 1 << 30, 1<<30 - 1, 250_500_000_000, 12_345_000_000_000} {
			q.Amounts = append(q.Amounts, amountOf{v, unit}, amountOf{-v, unit})
		}
		for range 3000 {
			q.Amounts = append(q.Amounts, amountOf{int64(math.Pow(10, 15*r.Float64())), unit})
		}
	}
	for _, kind := range []string{"own", "library", "runtime", "kernel", "interpreter", "jit", "mark", "unknown"} {
		for _, area := range []string{"", "slur", "entelon/demo/engraved/page", "großer Saal", "𝄞 clef", "libc.so.6"} {
			q.Inks = append(q.Inks, inkOf{kind, area, true}, inkOf{kind, area, false})
		}
	}
	for range 500 {
		n := 1 + r.Int64N(100_000)
		q.Shares = append(q.Shares, share{r.Int64N(n + 1), n})
		q.Times = append(q.Times, r.Int64N(1e13))
	}
	a := answers(t, q)
	plain := strings.NewReplacer("\u2009", "", "\u202f", "", "\u00a0", " ", "−", "-")
	for i, x := range q.Amounts {
		want := plain.Replace(measure.Amount(x.Value, measure.Unit(x.Unit)))
		if got := plain.Replace(a.Amounts[i]); got != want {
			t.Errorf("%d %s: the page writes %q, the server %q", x.Value, x.Unit, got, want)
		}
	}
	for i, x := range q.Inks {
		want, got := picture.InkOf(x.Kind, x.Area, x.Native), a.Inks[i]
		if got.Fill != want.Fill || got.Edge != want.Edge || got.Hatch != want.Hatched || got.Dotted != want.Dotted {
			t.Errorf("%+v: the page draws %+v, the server %+v", x, got, want)
		}
	}
	for i, x := range q.Shares {
		low, high := calltree.Interval(x.K, x.N, calltree.Z95)
		if half := (high - low) / 2; low > 0 && high < 1 && math.Abs(half-a.Halves[i]) > 1e-12 {
			t.Errorf("%d of %d: ±%g on the page, ±%g by the server", x.K, x.N, a.Halves[i], half)
		}
	}
	for i, ns := range q.Times {
		if _, err := scope.Parse(fmt.Sprintf("time from %s to 20000 s", a.Times[i])); err != nil {
			t.Errorf("%d ns: %v", ns, err)
		}
	}
}

type answer struct {
	Amounts []string  `json:"amounts"`
	Halves  []float64 `json:"halves"`
	Times   []string  `json:"times"`
	Inks    []struct {
		Fill, Edge    string
		Hatch, Dotted bool
	} `json:"inks"`
}

func answers(t *testing.T, q question) (a answer) {
	t.Helper()
	dir := t.TempDir()
	script := filepath.Join(dir, "parity.mjs")
	if err := os.WriteFile(script, []byte(parityScript), 0o600); err != nil {
		t.Fatal(err)
	}
	in, err := json.Marshal(q)
	if err != nil {
		t.Fatal(err)
	}
	modules, err := filepath.Abs("node_modules")
	if err != nil {
		t.Fatal(err)
	}
	run := exec.Command("node", script, "src/lib", dir, modules)
	run.Stdin = bytes.NewReader(in)
	var said bytes.Buffer
	run.Stderr = &said
	out, err := run.Output()
	if err != nil {
		t.Fatalf("%v: %s", err, said.String())
	}
	if err := json.Unmarshal(out, &a); err != nil {
		t.Fatal(err)
	}
	return a
}
