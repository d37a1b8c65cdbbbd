package draw

import (
	"image/color"

	"aditus/internal/words"
)

// Palette gives the roles their colours. They mean what they mean on the screens.
type Palette struct {
	ground, text, bright, dim, rule, old, new, clear, bad, asks color.Color
}

func rgb(hex uint32) color.Color {
	return color.RGBA{uint8(hex >> 16), uint8(hex >> 8), uint8(hex), 0xff}
}

// Dark is the palette of the screens; Light is for paper.
var (
	Dark  = Palette{rgb(0x0f1317), rgb(0xcdd6de), rgb(0xf0f4f8), rgb(0x768592), rgb(0x2c363e), rgb(0x7aa2ce), rgb(0xe8b25c), rgb(0x70ba94), rgb(0xee6c5c), rgb(0xbe96ec)}
	Light = Palette{rgb(0xfbfcfd), rgb(0x2b343b), rgb(0x0b0f12), rgb(0x66737d), rgb(0xc9d1d7), rgb(0x2f5f93), rgb(0x8a5a00), rgb(0x1f7a4d), rgb(0xc0392b), rgb(0x7a3fb8)}
)

// tone is the colour of what is said in a tone.
func (p Palette) tone(t words.Tone) color.Color {
	switch t {
	case words.Good:
		return p.clear
	case words.Bad:
		return p.bad
	case words.Asks:
		return p.asks
	case words.Moves:
		return p.new
	}
	return p.text
}
