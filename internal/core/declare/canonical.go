package declare

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
)

// Fingerprint is a revision's identity: the SHA-256 of the canonical desired state, in hex.
type Fingerprint string

// Short is the fingerprint as people see it: 7 characters.
func (f Fingerprint) Short() string { return string(f[:min(7, len(f))]) }

// Fingerprint gives the revision of a desired state.
func (d Desired) Fingerprint() Fingerprint {
	sum := sha256.Sum256(d.Canonical())
	return Fingerprint(hex.EncodeToString(sum[:]))
}

// Canonical is the desired state as canonical JSON.
func (d Desired) Canonical() []byte {
	plain, err := json.Marshal(d)
	if err != nil {
		panic(fmt.Sprintf("a desired state must marshal: %v", err)) // it holds nothing that cannot
	}
	canonical, err := Canonical(plain)
	if err != nil {
		panic(fmt.Sprintf("marshalled JSON must parse: %v", err))
	}
	return canonical
}

// Canonical rewrites a JSON text in the form of RFC 8785: no white space, keys sorted by their UTF-16 code units,
// numbers as ECMAScript writes them, strings with the least escaping. Numbers that are no finite float64 are refused.
func Canonical(text []byte) ([]byte, error) {
	decoder := json.NewDecoder(bytes.NewReader(text))
	var value any
	if err := decoder.Decode(&value); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := canonical(&out, value); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func canonical(out *bytes.Buffer, value any) error {
	switch v := value.(type) {
	case nil:
		out.WriteString("null")
	case bool:
		out.WriteString(strconv.FormatBool(v))
	case float64:
		number, err := ecmaNumber(v)
		out.WriteString(number)
		return err
	case string:
		canonicalString(out, v)
	case []any:
		out.WriteByte('[')
		for i, item := range v {
			if i > 0 {
				out.WriteByte(',')
			}
			if err := canonical(out, item); err != nil {
				return err
			}
		}
		out.WriteByte(']')
	case map[string]any:
		keys := keysOf(v)
		slices.SortFunc(keys, compareUTF16)
		out.WriteByte('{')
		for i, key := range keys {
			if i > 0 {
				out.WriteByte(',')
			}
			canonicalString(out, key)
			out.WriteByte(':')
			if err := canonical(out, v[key]); err != nil {
				return err
			}
		}
		out.WriteByte('}')
	default:
		return fmt.Errorf("no JSON value: %T", value)
	}
	return nil
}

// compareUTF16 orders as RFC 8785 section 3.2.3 asks; it differs from byte order beyond the basic plane.
func compareUTF16(a, b string) int {
	return slices.Compare(utf16.Encode([]rune(a)), utf16.Encode([]rune(b)))
}

func canonicalString(out *bytes.Buffer, s string) {
	out.WriteByte('"')
	for _, c := range s {
		switch c {
		case '"', '\\':
			out.WriteByte('\\')
			out.WriteRune(c)
		case '\b':
			out.WriteString(`\b`)
		case '\f':
			out.WriteString(`\f`)
		case '\n':
			out.WriteString(`\n`)
		case '\r':
			out.WriteString(`\r`)
		case '\t':
			out.WriteString(`\t`)
		default:
			if c < 0x20 {
				fmt.Fprintf(out, `\u%04x`, c)
			} else {
				out.WriteRune(c)
			}
		}
	}
	out.WriteByte('"')
}

// ecmaNumber writes a number as ECMA-262 section 6.1.6.1.20 (Number::toString) does.
func ecmaNumber(f float64) (string, error) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return "", fmt.Errorf("%v has no JSON form", f)
	}
	if f == 0 {
		return "0", nil
	}
	if size := math.Abs(f); size >= 1e-6 && size < 1e21 {
		return strconv.FormatFloat(f, 'f', -1, 64), nil
	}
	mantissa, exponent, _ := strings.Cut(strconv.FormatFloat(f, 'e', -1, 64), "e")
	sign, digits := exponent[:1], strings.TrimLeft(exponent[1:], "0")
	return mantissa + "e" + sign + digits, nil
}
