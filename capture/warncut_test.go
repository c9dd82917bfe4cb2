package capture

import (
	"strings"
	"testing"

	"entelon/core/profile"
	"entelon/resolve"
	"entelon/unwind"
)

// TestWarnCut: the remedy fits the most frequent reason.
func TestWarnCut(t *testing.T) {
	for _, c := range []struct {
		reason unwind.End
		set    profile.Settings
		remedy string
	}{
		{unwind.Deeper, profile.Settings{Unwind: UnwindTables, StackBytes: 4096}, "--stack 8k"},
		{unwind.Deeper, profile.Settings{Unwind: UnwindTables, StackBytes: MaxStackBytes}, "Nothing deeper"},
		{unwind.OtherStack, profile.Settings{Unwind: UnwindTables}, "as root"},
		{unwind.NoTable, profile.Settings{Unwind: UnwindFramePointers}, "--unwind tables"},
		{unwind.NoTable, profile.Settings{Unwind: UnwindTables}, "Build libblot.so with -fasynchronous-unwind-tables"},
		{unwind.Circle, profile.Settings{Unwind: UnwindTables}, "self costs"},
	} {
		s := &session{o: Options{Settings: c.set}}
		s.resolver = resolve.New(profile.NewBuilder(), &s.facts, nil)
		s.resolver.NoTable["/srv/libblot.so"] = 7
		s.facts.UserStacks, s.facts.Complete = 100, 95
		s.facts.CutOff = []profile.Cut{profile.CutBy(resolve.CutMarks[c.reason], 5)}
		s.warnCut()
		if len(s.facts.Warnings) != 1 || !strings.Contains(s.facts.Warnings[0].Remedy, c.remedy) || !strings.Contains(s.facts.Warnings[0].Text, profile.CutBy(resolve.CutMarks[c.reason], 5).Words()+" (5)") {
			t.Errorf("%v: %+v, want %q", c.reason, s.facts.Warnings, c.remedy)
		}
		s.facts.Warnings, s.o.Settings.CutShare = nil, 0.06
		if s.warnCut(); len(s.facts.Warnings) != 0 {
			t.Errorf("%v: below the share that was set: %+v", c.reason, s.facts.Warnings)
		}
	}
}
