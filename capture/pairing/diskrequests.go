package pairing

import (
	"fmt"
	"strings"

	"entelon/capture/rings"
	"entelon/core/profile"
	"entelon/resolve"
	"entelon/resolve/raw"
)

// countDisk counts one request to a disk.
func countDisk(r *resolve.Resolver, rec *raw.Record, e *rings.Event) error {
	x, _ := r.See(rec)
	data := rec.Sample.Data
	sectors, ok := e.Point.Fields["nr_sector"].Number(data)
	if !ok {
		return fmt.Errorf("a request to a disk without a size")
	}
	const sector = 512 // the kernel counts in these, whatever the disk's own are
	kind := ""
	if f := e.Point.Fields["rwbs"]; f.Offset+f.Size <= len(data) {
		kind = string(data[f.Offset : f.Offset+f.Size])
	}
	mark := profile.DiskOther
	switch {
	case strings.Contains(kind, "R"):
		mark = profile.DiskRead
	case strings.Contains(kind, "W"):
		mark = profile.DiskWrite
	case strings.Contains(kind, "D"):
		mark = profile.DiskDiscard
	case strings.Contains(kind, "F"):
		mark = profile.DiskFlush
	}
	r.Keep(x, r.Mark(mark), r.Value(e.Column, int64(sectors*sector), 1))
	return nil
}
