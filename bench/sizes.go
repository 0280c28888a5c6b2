package main

import (
	"testing"
	"time"
)

// sized is a size as it is measured. Where figures are only tried, which tests do, it is a fiftieth of it, and four at least.
func sized(n int) int {
	if !testing.Testing() {
		return n
	}
	return max(n/50, min(n, 4))
}

// aHundred is what many figures take at a time.
var aHundred = sized(100)

// turns is how often something is measured.
func turns(n int) int {
	if testing.Testing() {
		return 1
	}
	return n
}

// pause waits until what is put away in time was, where figures are measured.
func pause(d time.Duration) {
	if !testing.Testing() {
		time.Sleep(d)
	}
}
