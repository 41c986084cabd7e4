// Package run does the steps of a plan and records them, so that a run that
// stops anywhere, in whatever way, can go on or be taken back.
//
// Steps that follow each other without batches share one transaction, with their
// records; a backfill has one for each batch. What is proven before anything is
// touched is proven first. After the last step the tables must be what the plan
// said, or that last transaction is taken back.
//
// Start reading at [Runner.Advance].
package run
