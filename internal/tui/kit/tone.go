package kit

import "aditus/internal/control"

// RoleOf gives the role in which a sentence of a tone is drawn.
func RoleOf(tone control.Tone) Role {
	switch tone {
	case control.Good:
		return Clear
	case control.Bad:
		return Bad
	case control.Asks:
		return Asks
	case control.Moves:
		return New
	}
	return Text
}
