//go:build !faults

// Package mishap names the places of a run where tests let something happen to it.
package mishap

// Place does nothing in the program that people use.
func Place(string) {}

// In does nothing in the program that people use.
func In(string) {}
