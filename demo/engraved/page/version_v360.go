//go:build v360 && !v370

package page

// Version is the name of this build.
const Version = "3.6.0"
