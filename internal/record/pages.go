package record

// Page says which part of a list is wanted.
type Page struct {
	// After is the cursor that the page before gave; "" asks for the first page.
	After string
	// Limit is the greatest number of entries.
	Limit int
	// Total asks for a count of all that match.
	Total bool
}

// List is one page.
type List[T any] struct {
	Items []T
	// Next is the cursor for the page after; "" on the last one.
	Next string
	// Total is the number that match, where it was asked for.
	Total *int
}
