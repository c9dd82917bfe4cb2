package collector

import (
	"entelon/capture"
	"entelon/diagnose/doctor"
	"entelon/server/api"
)

// machineReport is what this machine allows, as collectors tell it.
func Report() api.MachineReport {
	r := api.MachineReport{Machine: capture.Machine(), Checks: []api.MachineCheck{}}
	for _, c := range doctor.Examine() {
		r.Checks = append(r.Checks, api.MachineCheck(c))
	}
	return r
}
