package reading

import "testing"

// ExpandTo has compressed files expand to no more than n bytes in a test.
func ExpandTo(t *testing.T, n int64) {
	before := mostExpanded
	mostExpanded = n
	t.Cleanup(func() { mostExpanded = before })
}
