package refresh

// For the tests of what no request reaches by itself.
var (
	HandOne = (*Runner).handOne
	AskedBy = askedBy
)
