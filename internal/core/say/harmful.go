package say

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
)

// Harmful tells whether a character does something to whatever shows it, rather than being seen: controls, marks that change the
// direction of writing, and others that have no width.
func Harmful(r rune) bool {
	switch {
	case unicode.IsControl(r), r == 0x61c, r >= 0x200b && r <= 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0xfeff, r >= 0xe0000 && r <= 0xe007f:
		return true
	}
	return false
}

// JSON writes what is harmful in a text of JSON as escapes, so that it reaches no terminal that the text is shown on. It means the same.
func JSON(text []byte) []byte {
	if !bytes.ContainsFunc(text, func(r rune) bool { return r >= 0x7f && Harmful(r) }) {
		return text
	}
	var out strings.Builder
	for _, r := range string(text) {
		switch {
		case r < 0x7f || !Harmful(r):
			out.WriteRune(r)
		case r > 0xffff:
			a, b := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, a, b)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
	}
	return []byte(out.String())
}
