package take

import (
	"encoding/binary"
	"hash/crc32"

	"entelon/core/profile"
)

// HeaderForTest returns the version and checksum of a file header.
func HeaderForTest(version uint32) []byte {
	h := encodeFileHeader()
	binary.LittleEndian.PutUint32(h[8:], version)
	binary.LittleEndian.PutUint32(h[12:], crc32.Checksum(h[:12], castagnoli))
	return h[8:]
}

// BlocksForTest returns the inside of a take's tables and samples.
func BlocksForTest(p *profile.Profile) (tables, samples []byte) {
	var w Writer
	w.tables(p)
	tables = append(tables, w.buf...)
	w.columns(p, 0, p.Samples.Len())
	return tables, append(samples, w.buf...)
}

// ReadBlocksForTest reads what BlocksForTest returns.
func ReadBlocksForTest(tables, samples []byte) (*profile.Profile, error) {
	p := &profile.Profile{}
	if err := readTables(tables, p, &allowance{left: 1 << 30, deepest: 1 << 19}, current); err != nil {
		return nil, err
	}
	return p, readSamples(samples, p, &allowance{left: 1 << 30, deepest: 1 << 19}, current)
}
