package schema

// WatchChange lets the engine count which programs still write columns of a table by what they were
// before an overlap opened; Off ends that.
type WatchChange struct {
	Table   *Table
	Columns []Watched
	Off     bool
}

// Watched is a column that is written by programs of before alone: one that goes, one that has another
// name beside it, or one that is supplied, by an insert that leaves it out.
type Watched struct {
	Column   string `json:"column"`           // "" for the table as a whole
	Mirror   string `json:"mirror,omitempty"` // its other name
	Supplied bool   `json:"supplied,omitempty"`
}

// Named gives the words by which a trigger for an event is called.
func (w Watched) Named(event string) []string {
	if w.Column == "" {
		return []string{event}
	}
	return []string{w.Column, event}
}

// WatchedNames gives the names of the columns.
func WatchedNames(list []Watched) (names []string) {
	for _, w := range list {
		names = append(names, w.Column)
	}
	return names
}
