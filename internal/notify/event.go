package notify

import (
	"net/url"
	"strconv"
	"strings"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"

	"aditus/internal/ledger"
)

// factSchema is where the schema of a fact is: the data of an event.
const factSchema = "https://aditus.example/fact-1.schema.json"

// typePrefix begins the types of events; the kind of the fact follows, with hyphens for spaces.
const typePrefix = "example.aditus.fact."

// Event makes an event of CloudEvents 1.0 of a fact: its id is the fact's number, its source the line, its subject WORKLOAD/SITE.
func Event(line string, f ledger.Fact) (cloudevents.Event, error) {
	e := cloudevents.New()
	e.SetID(strconv.FormatInt(f.Seq, 10))
	e.SetSource("/lines/" + url.PathEscape(line))
	e.SetType(typePrefix + strings.ReplaceAll(string(f.Kind), " ", "-"))
	if f.Workload != "" {
		e.SetSubject(f.Workload + "/" + f.Site)
	}
	e.SetTime(f.At.UTC())
	e.SetDataSchema(factSchema)
	if err := e.SetData("application/json", f); err != nil {
		return e, err
	}
	return e, e.Validate()
}
