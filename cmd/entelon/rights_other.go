//go:build !linux

package main

func dropCapabilities() error { return nil }
