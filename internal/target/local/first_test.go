package local

import "testing"

// TestUsersFree chooses numbers that nobody has, and that there are.
func TestUsersFree(t *testing.T) {
	const all = "         0          0 4294967295\n"
	for name, test := range map[string]struct{ passwd, subuid, mapped, want string }{
		"nobody has them":       {"root:x:0:0::/root:/bin/sh\n", "", all, "705000-705999"},
		"one has an account":    {"root:x:0:0::/root:/bin/sh\nilse:x:705999:100::/:/bin/sh\n", "", all, "706000-706999"},
		"some are another's":    {"", "ilse:706500:65536\nodd\njon:705000:1\n", all, "773000-773999"},
		"just before and after": {"a:x:704999:1::/:\nb:x:706000:1::/:\n", "c:600000:105000\n", all, "705000-705999"},
		"few are mapped":        {"", "", "0 100000 65536\n", ""},
		"the last are":          {"", "", "0 0 1000\n700000 100000 2000\n", "700000-700999"},
		"around the end":        {"", "ilse:705000:995000\n", all, "700000-700999"},
	} {
		if got, ok := usersFree(5, test.passwd, test.subuid, test.mapped); got != test.want || ok != (test.want != "") {
			t.Errorf("%s: %q %v, want %q", name, got, ok, test.want)
		}
	}
}
