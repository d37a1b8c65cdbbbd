package status

import (
	"time"

	"aditus/internal/core/course"
)

// Review is what a branch, tag or commit would change at every site, if it were merged as it is.
type Review struct {
	Line      string           `json:"line"`
	Ref       string           `json:"ref"`
	Now       time.Time        `json:"now"`
	Berths    int              `json:"berths"`              // that its links declare
	Rules     bool             `json:"rules,omitempty"`     // it changes the line's rules too
	Behind    bool             `json:"behind,omitempty"`    // what is declared went on since it was made from that; what came since stays
	Conflicts []string         `json:"conflicts,omitempty"` // files that both changed, each in its own way: as it has them
	Workloads []ReviewWorkload `json:"workloads"`           // those that it changes, by name
	Kept      int64            `json:"kept,omitempty"`      // the number of the fact that keeps it
}

// ReviewWorkload is what it would change of one workload.
type ReviewWorkload struct {
	Workload string       `json:"workload"`
	Link     string       `json:"link"`
	Course   string       `json:"course,omitempty"` // that it takes; empty for none
	Off      bool         `json:"off,omitempty"`    // which is off
	Subject  string       `json:"subject,omitempty"`
	Author   string       `json:"author,omitempty"`
	Sites    []ReviewSite `json:"sites"` // in course order
}

// ReviewSite is what it would change at one site.
type ReviewSite struct {
	Site    string      `json:"site"`
	From    string      `json:"from,omitempty"` // the version that is declared now; empty where none is
	To      string      `json:"to,omitempty"`   // empty where it would not be declared any more
	Does    []string    `json:"does"`           // in words
	Lasting []string    `json:"lasting,omitempty"`
	Leg     *course.Leg `json:"leg,omitempty"` // when it comes, and what it meets; nil where there are no rules
	Refused string      `json:"refused,omitempty"`
}

// Changes counts the berths that it would change.
func (r Review) Changes() (count int) {
	for _, w := range r.Workloads {
		count += len(w.Sites)
	}
	return count
}
