package collector

import (
	"fmt"
	"slices"
	"strings"

	"entelon/capture"
	"entelon/linux/procfs"
	"entelon/server/api"
)

// maxMeasures is how many measures an answer has, and longestMeasure how many bytes the
// name of each: that of a C++ function may have thousands.
const (
	maxMeasures    = 200
	longestMeasure = 400
)

// measures lists what can be measured here and has a text in its name; of a process that
// may be attached to, functions, too.
func (w *Collector) measures(j *api.JobForCollector) (*api.MeasurablesOut, error) {
	begun := strings.Join(j.Settings.Measures, "")
	var programs []string
	for _, pid := range j.Settings.PIDs {
		if !strings.HasPrefix(begun, "function:") {
			break // reading the names of all functions takes a moment
		}
		owner, err := procfs.Owner(pid)
		if err != nil {
			return nil, err
		}
		if !w.allow.MayAttach(owner) {
			return nil, fmt.Errorf("this machine's owner does not allow processes of %s to be sampled", owner)
		}
		if program := procfs.Program(pid); program != "" {
			programs = append(programs, program)
		}
	}
	literal := strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "/", "|").Replace(begun)
	list, err := capture.Measurables("*"+literal+"*", programs)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(m capture.Measurable) bool { return len(m.Name) > longestMeasure })
	out := &api.MeasurablesOut{Measures: []api.MeasurableOut{}, Left: max(0, len(list)-maxMeasures)}
	for _, m := range list[:min(maxMeasures, len(list))] {
		out.Measures = append(out.Measures, api.MeasurableOut(m))
	}
	return out, nil
}
