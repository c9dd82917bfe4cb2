package measures

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"entelon/capture"
	"entelon/core/measure"
	"entelon/linux/cgroup"
)

// Help is the part of the help that lists the measures.
func Help() string {
	var b strings.Builder
	for _, k := range measure.Kinds {
		fmt.Fprintf(&b, "  %s (%s)\n", k.Form(), k.Units())
		for _, line := range wrapped(k.Means+" Costs "+k.Cost+".", 72) {
			fmt.Fprintf(&b, "      %s\n", line)
		}
	}
	return strings.TrimRight(b.String(), "\n")
}

// wrapped cuts a text into lines of at most so many letters.
func wrapped(text string, width int) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > width {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}

// CompleteMeasures completes what -m accepts.
func CompleteMeasures(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if strings.HasPrefix(begun, "tracepoint:") {
		list, err := capture.Measurables(begun+"*", nil)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		for _, m := range list {
			out = append(out, m.Name)
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
	for _, k := range measure.Kinds {
		word := k.Word
		if k.Of == measure.OfATracepoint || k.Of == measure.OfAFunction || k.Of == measure.OfAProbe {
			word += ":"
		}
		first, _, _ := strings.Cut(k.Means, ":")
		out = append(out, word+"\t"+first)
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// CompleteGroups offers the control groups in which something runs.
func CompleteGroups(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	list, err := cgroup.List()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, g := range list {
		out = append(out, g.Path+"\t"+strings.Join(g.Programs, ", "))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompleteProcesses offers the processes that run, with their names.
func CompleteProcesses(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	dirs, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, d := range dirs {
		name, err := os.ReadFile(d + "/comm")
		if _, bad := strconv.Atoi(filepath.Base(d)); err == nil && bad == nil {
			out = append(out, filepath.Base(d)+"\t"+strings.TrimSpace(string(name)))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
