// Package faults breaks a whole installation at random, server, collector,
// database, disks, clocks and the network between them, while takes are made, sent
// and read, and then compares everything that was acknowledged with what is there.
package faults
