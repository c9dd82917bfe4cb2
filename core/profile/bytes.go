package profile

// Bytes estimates the memory that a profile holds: its columns and its texts.
func (p *Profile) Bytes() int64 {
	n := int64(p.Samples.Len())*int64(16+8*len(p.Measures)) + int64(len(p.Samples.Labels))*4 + int64(p.Stacks.Len())*8 +
		int64(len(p.Frames))*24 + int64(len(p.Functions))*28 + int64(p.LabelSets.Len())*12 +
		int64(p.Intervals.Len())*25 + int64(len(p.Intervals.Ended.Interval))*12
	for _, a := range p.Intervals.Attributes {
		n += int64(len(a.Interval)) * 12
	}
	for _, s := range p.Strings {
		n += int64(len(s)) + 16
	}
	return n
}
