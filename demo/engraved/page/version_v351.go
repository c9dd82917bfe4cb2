//go:build v351 && !v360

package page

// Version is the name of this build.
const Version = "3.5.1"
