package declare

import (
	"testing"
	"time"
)

func TestCanonical(t *testing.T) {
	tests := []struct{ name, in, want string }{
		{"RFC 8785 section 3.2.2", `{"numbers":[333333333.33333329,1E30,4.50,2e-3,0.000000000000000000000000001],"string":"\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/","literals":[null,true,false]}`,
			`{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],"string":"€$\u000f\nA'B\"\\\\\"/"}`},
		{"RFC 8785 section 3.2.3, order of keys", `{"\u20ac":"Euro Sign","\r":"Carriage Return","\ufb33":"Hebrew Letter Dalet With Dagesh","1":"One","\ud83d\ude00":"Emoji: Grinning Face","\u0080":"Control","\u00f6":"Latin Small Letter O With Diaeresis"}`,
			`{"\r":"Carriage Return","1":"One","` + "\u0080" + `":"Control","ö":"Latin Small Letter O With Diaeresis","€":"Euro Sign","😀":"Emoji: Grinning Face","` + "\ufb33" + `":"Hebrew Letter Dalet With Dagesh"}`},
		{"RFC 8785 appendix B, small and large", `[0, -0, 5e-324, 1.7976931348623157e308, 9007199254740992, 295147905179352830000, 1e21, 9.999999999999997e22, 1e23, 0.000001, 1e-7]`,
			`[0,0,5e-324,1.7976931348623157e+308,9007199254740992,295147905179352830000,1e+21,9.999999999999997e+22,1e+23,0.000001,1e-7]`},
		{"white space and nesting", " { \"b\" : [ { } , [ ] ] , \"a\" : \"\" } ", `{"a":"","b":[{},[]]}`},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			got, err := Canonical([]byte(test.in))
			if err != nil || string(got) != test.want {
				t.Errorf("got  %s (%v)\nwant %s", got, err, test.want)
			}
			again, err := Canonical(got)
			if err != nil || string(again) != string(got) {
				t.Errorf("canonical form is not stable: %s (%v)", again, err)
			}
		})
	}
	if _, err := Canonical([]byte(`{"a":1e999}`)); err == nil {
		t.Error("a number beyond float64 was taken")
	}
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{2 * time.Minute: "2m", 90 * time.Second: "1m30s", time.Hour: "1h", 0: "0s", 150 * time.Millisecond: "150ms", time.Hour + 5*time.Second: "1h0m5s"} {
		text, _ := Span{d}.MarshalText()
		var back Span
		if err := back.UnmarshalText(text); string(text) != want || err != nil || back.Duration != d {
			t.Errorf("%v is written %s and read back %v (%v), want %s", d, text, back, err, want)
		}
	}
}

func TestTag(t *testing.T) {
	for reference, want := range map[string]string{
		"r.example/a/b:1.2.3":           "1.2.3",
		"r.example:5000/a:1":            "1",
		"r.example:5000/a":              "",
		"r.example/a@sha256:0123456789": "0123456",
		"r.example/a:2@sha256:01234567": "2",
	} {
		if got := Tag(reference); got != want {
			t.Errorf("Tag(%s) = %q, want %q", reference, got, want)
		}
	}
}
