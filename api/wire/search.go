package wire

// SearchResult is what a search found.
type SearchResult struct {
	Found    []Found `json:"found" nullable:"false"`
	Total    int     `json:"total" doc:"All that fit, also those beyond the limit."`
	Servers  int     `json:"servers"`
	Answered int     `json:"answered" doc:"Servers that could be read, now or within the last minute."`
}

// Found is a server, a database, an account or a role.
type Found struct {
	Kind        string `json:"kind" enum:"server,database,account,role"`
	Address     string `json:"address"`
	Server      string `json:"server"`
	Name        string `json:"name"`
	Host        string `json:"host,omitempty"`
	Database    string `json:"database,omitempty" doc:"The one that an account lies in."`
	Role        bool   `json:"role,omitempty" doc:"It is addressed as a role, apart from accounts."`
	Environment string `json:"environment"`
}
