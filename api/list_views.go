package api

// ListView is how an operator has set up one of the console's lists.
type ListView struct {
	// Which list.
	List string `json:"list" pattern:"^[a-z-]+$" maxLength:"40"`
	// Columns that are not shown.
	Hidden []string `json:"hidden" maxItems:"20"`
	// Filters that are kept under a name.
	Filters []KeptFilter `json:"filters" maxItems:"50"`
}

// KeptFilter is a search with its filters and order, under a name.
type KeptFilter struct {
	// Name of the filter.
	Name string `json:"name" minLength:"1" maxLength:"100"`
	// Parameters of the list's address: search, sort, and filters by name.
	Query map[string]string `json:"query"`
}
