//go:build v370

package page

// Version is the name of this build. It is the tag v370, with those of the three before it: it saves its
// glyphs while it serves.
const Version = "3.7.0"
