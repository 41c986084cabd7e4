//go:build !faults

// Package mishap names the places of a run where tests let something happen to it.
package mishap

// Place does nothing in the program that people use.
func Place(string) {}

// Chosen is false in the program that people use.
func Chosen(string) bool { return false }

// In does nothing in the program that people use.
func In(string) {}
