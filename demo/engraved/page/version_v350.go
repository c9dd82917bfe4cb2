//go:build v350 && !v351

package page

// Version is the name of this build.
const Version = "3.5.0"
