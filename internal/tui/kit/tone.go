package kit

import "aditus/internal/words"

// RoleOf gives the role in which a sentence of a tone is drawn.
func RoleOf(tone words.Tone) Role {
	switch tone {
	case words.Good:
		return Clear
	case words.Bad:
		return Bad
	case words.Asks:
		return Asks
	case words.Moves:
		return New
	}
	return Text
}
