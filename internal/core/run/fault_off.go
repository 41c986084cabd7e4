//go:build !faults

package run

// point does nothing in the program that people use.
func point(string) {}
