package server

import "time"

// Hurry gives slow clients less time, until it is undone.
func Hurry(d time.Duration) (undo func()) {
	old, rate := grace, minRate
	grace, minRate = d, 64<<20
	return func() { grace, minRate = old, rate }
}

// Paths are those that the API's description does not have.
var Paths = []string{eventsPath, importPath}

// Only is for its test.
var Only = only
