//go:build !v350

package page

// Version is the name of this build.
const Version = "3.4.0"
