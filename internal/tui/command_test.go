package tui

import (
	"strings"
	"testing"
)

// TestCommand does things by their names, completes them, and says what a name may be.
func TestCommand(t *testing.T) {
	a, f := app(t)
	shows := func(want string) {
		t.Helper()
		if text := frame(a, 158, 47); !strings.Contains(text, want) {
			t.Errorf("%q is not on the screen:\n%s", want, text)
		}
	}
	press(a, "2 : l o")
	shows("f lock")
	shows("i look inside")
	press(a, "enter")
	shows("That may be")
	press(a, ": l i n tab enter")
	shows("repository")
	press(a, ": b o a enter")
	shows("NEEDS YOU")
	press(a, ": f l y enter")
	shows("There is nothing called fly.")
	press(a, ": s e t enter")
	shows("SITES")
	press(a, "esc : h e l p enter")
	shows("KEYS OF THIS SCREEN")
	press(a, "x 2 : r o l l enter")
	shows("enter do it")
	press(a, "esc : esc : enter")
	if len(f.orders) > 0 {
		t.Errorf("it was ordered %+v", f.orders)
	}
}
