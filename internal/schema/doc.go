// Package schema is the model of a database's tables, what a statement of the
// migration language makes of it, and how two models differ.
//
// It is pure: it never talks to a database, and the same statement on the same
// tables always gives the same change. An engine reads a [Schema] from a
// database and turns a [Change] into steps.
//
// Start reading at [Schema] in model.go, then [Apply] in apply.go; [Invert]
// derives the way back, [Compare] lists differences attribute by attribute.
package schema
