package words

import (
	"testing"

	"aditus/internal/core/berth"
	"aditus/internal/status"
)

// TestOrders sees that every order that there is can be given from the screens, and that no letter means two things.
func TestOrders(t *testing.T) {
	offered := map[Verb]Action{}
	for _, b := range []status.Berth{{}, {Lock: &berth.Lock{By: "Maren Oake", Message: "the regatta"}}} {
		letters := map[string]Verb{}
		for _, a := range Actions(b) {
			offered[a.Verb] = a
			if other, taken := letters[a.Key]; taken || a.Key == "" {
				t.Errorf("%q stands for %s and for %s", a.Key, other, a.Verb)
			}
			letters[a.Key] = a.Verb
		}
	}
	for _, verb := range berth.Verbs() {
		a, ok := offered[Verb(verb)]
		if !ok || a.Means == "" || !a.Changes {
			t.Errorf("the order %s is not among the actions: %+v", verb, a)
		}
	}
	if _, ok := offered["dance"]; ok || len(offered) < len(berth.Verbs()) {
		t.Errorf("%d actions are offered", len(offered))
	}
}
