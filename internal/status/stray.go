package status

// Stray is something at a site that nobody put there through Aditus.
type Stray struct {
	ID     string         `json:"id"`               // KIND/NAME
	With   string         `json:"with,omitempty"`   // what it seems to belong to, as a name for a workload
	Says   string         `json:"says"`             // what it is, in a few words
	Not    string         `json:"not,omitempty"`    // why it cannot be taken over; empty where it can
	Object map[string]any `json:"object,omitempty"` // as it would be declared
	Part   map[string]any `json:"part,omitempty"`   // as it would be declared, where it is no object
	Notes  []string       `json:"notes,omitempty"`  // what whoever declares it should know
}

// TakenAsItIs is what a site says of an object or a process that is declared, and there already exactly so.
const TakenAsItIs = "it is there already, and is taken over as it is"

// TakeOver says what of a site is to be declared as a workload.
type TakeOver struct {
	Site     string   `json:"site"`
	Workload string   `json:"workload"`       // the name that it gets
	Strays   []string `json:"strays"`         // by ID
	Link     string   `json:"link,omitempty"` // whose repository takes the declaration; empty where there is one alone
}
