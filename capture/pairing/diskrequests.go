package pairing

import (
	"fmt"
	"strings"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// SectorBytes is what the kernel counts in, whatever a disk's own sectors are.
const SectorBytes = 512

// countDisk counts one request to a disk.
func countDisk(r *resolve.Resolver, rec *raw.Record, e *rings.Event) error {
	x, _ := r.See(rec)
	data := rec.Sample.Data
	sectors, ok := e.Point.Fields["nr_sector"].Number(data)
	if !ok {
		return fmt.Errorf("a request to a disk without a size")
	}
	kind := ""
	if f := e.Point.Fields["rwbs"]; f.Offset+f.Size <= len(data) {
		kind = string(data[f.Offset : f.Offset+f.Size])
	}
	r.Keep(x, r.Mark(diskMark(kind)), r.Value(e.Column, int64(sectors*SectorBytes), 1))
	return nil
}

// diskMark reads the letters by which the kernel says what a request does.
func diskMark(kind string) profile.Mark {
	switch {
	case strings.Contains(kind, "R"):
		return profile.DiskRead
	case strings.Contains(kind, "W"):
		return profile.DiskWrite
	case strings.Contains(kind, "D"):
		return profile.DiskDiscard
	case strings.Contains(kind, "F"):
		return profile.DiskFlush
	}
	return profile.DiskOther
}

// requestMark reads what a request is by the kernel's number of that (enum req_op).
func requestMark(what uint32) profile.Mark {
	switch what {
	case 0:
		return profile.DiskRead
	case 1, 7, 9: // also of a place that the disk chooses, and of nothing but zeros
		return profile.DiskWrite
	case 2:
		return profile.DiskFlush
	case 3, 5:
		return profile.DiskDiscard
	}
	return profile.DiskOther
}
