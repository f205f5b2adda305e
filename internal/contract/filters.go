package contract

// SiteFilter is what somebody narrows the list of sites to again and again, as the query of an address: find, tag, need and sort.
type SiteFilter struct {
	ID    int64  `json:"id"`
	Query string `json:"query"`
}

// SiteFilterInput keeps a filter.
type SiteFilterInput struct {
	Query string `json:"query"`
}
