package measure

import (
	"errors"
	"fmt"
	"testing"
)

// TestTheTable: every row can be chosen as it is written, is found again by the
// names of its columns, and says everything.
func TestTheTable(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds {
		text := k.Word
		switch k.Of {
		case OfATracepoint:
			text += ":sched:sched_process_fork"
		case OfAProbe:
			text += ":shop:plate"
		case OfAFunction:
			text += ":slur.Route"
		}
		c, err := Parse(text)
		if err != nil || c.String() != text || c.Row().Word != k.Word {
			t.Errorf("%s: %+v, %v", text, c, err)
		}
		if k.Title == "" || k.Means == "" || k.Cost == "" || k.Note == "" || k.Units() == "" || len(c.Columns()) == 0 {
			t.Errorf("%s says too little: %+v", k.Word, k)
		}
		for _, col := range c.Columns() {
			if seen[col.Name] {
				t.Errorf("two columns are called %s", col.Name)
			}
			seen[col.Name] = true
			if got, ok := Named(col.Name); !ok || got != col {
				t.Errorf("%s is found as %+v", col.Name, got)
			}
			switch col.Unit {
			case Nanoseconds, Bytes, Count:
			default:
				t.Errorf("%s is in %q", col.Name, col.Unit)
			}
		}
	}
}

func TestColumnsOfSomething(t *testing.T) {
	for name, want := range map[string]string{
		"allocated:score_alloc":         "allocated bytes by score_alloc",
		"function:slur.Route":           "calls of slur.Route",
		"function:std::vector::reserve": "calls of std::vector::reserve",
		"tracepoint:sched:sched_switch": "passes of sched:sched_switch",
		"cycles":                        "processor cycles",
		"bytes of ink":                  "bytes of ink",
		"cpu:of what":                   "cpu:of what",
		"function":                      "function",
	} {
		if c, _ := Named(name); c.Label != want || c.Name != name {
			t.Errorf("%s is called %q, not %q", name, c.Label, want)
		}
	}
	c, err := Parse("allocations:score_alloc@2")
	if err != nil || c.String() != "allocations:score_alloc@2" || c.Argument != 2 || c.Columns()[1].Name != "allocations:score_alloc" {
		t.Errorf("%+v, %v", c, err)
	}
}

func TestWhatCannotBeChosen(t *testing.T) {
	for _, text := range []string{"", "cpus", "cpu:x", "allocations:", "allocations:f@0", "allocations:f@7", "allocations:f@x", "tracepoint", "tracepoint:sched", "tracepoint:../x:y", "function", "function:"} {
		if c, err := Parse(text); !errors.Is(err, ErrUnknown) {
			t.Errorf("%q is read as %+v, %v", text, c, err)
		}
	}
	if list, err := ParseAll([]string{" cpu", "waiting", "cpu"}); err != nil || len(list) != 2 {
		t.Errorf("%v, %v", list, err)
	}
	var many []string
	for i := range MaxChoices + 1 {
		many = append(many, fmt.Sprint("function:f", i))
	}
	if _, err := ParseAll(many); !errors.Is(err, ErrUnknown) {
		t.Errorf("%d measures are taken: %v", len(many), err)
	}
	if list, err := ParseAll(nil); err != nil || len(list) != 1 || list[0].Kind != CPU {
		t.Errorf("%v, %v", list, err)
	}
}

func TestAmount(t *testing.T) {
	for _, c := range []struct {
		v    int64
		unit Unit
		want string
	}{
		{0, Nanoseconds, "0 s"}, {999, Nanoseconds, "1.00 µs"}, {12_410_000_000, Nanoseconds, "12.4 s"}, {-2_500_000, Nanoseconds, "-2.50 ms"},
		{1023, Bytes, "1023 B"}, {1536, Bytes, "1.50 KiB"}, {5 << 30, Bytes, "5.00 GiB"}, {123456, Count, "123\u202f456"},
	} {
		if got := Amount(c.v, c.unit); got != c.want {
			t.Errorf("%d %s is written %q, not %q", c.v, c.unit, got, c.want)
		}
	}
}
