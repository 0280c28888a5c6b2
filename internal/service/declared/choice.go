package declared

// Choice chooses findings; empty fields choose all.
type Choice struct {
	Targets []string `json:"targets,omitempty"`
	Users   []string `json:"users,omitempty"`
	Kinds   []string `json:"kinds,omitempty"`
}
