package source

import (
	"strings"
	"testing"

	"aditus/internal/core/declare"
)

// TestPlaces sees that a secret that is sealed for a place opens there alone, that one that is sealed for none opens only where its repository may
// declare everything, and that those of a folder are brought to their places with all else as it was.
func TestPlaces(t *testing.T) {
	key, err := OpenKey(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	file := func(workload, sealed string) []byte {
		return []byte("# stays\naditus: 1\nworkload: " + workload + "\nsites: [north]\nparts:\n  login:\n    kind: secret\n    values:\n      password: | # theirs\n        " + strings.ReplaceAll(strings.TrimSpace(sealed), "\n", "\n        ") + "\n      other: |\n        " + strings.ReplaceAll(strings.TrimSpace(sealed), "\n", "\n        ") + "\n  settings: {kind: settings, values: {a: b}}  # and this\n")
	}
	load := func(text []byte, g declare.Grant) string {
		loaded, problems := Load(t.Context(), []File{{Name: "x.yaml", Text: text}}, Options{Opener: key, Grant: &g})
		if wrong := problems.Wrong(); len(wrong) > 0 {
			return wrong.Error()
		}
		return loaded.Declarations[0].Parts["login"].Values["password"]
	}
	everything, some := declare.Grant{Everything: true}, declare.Grant{Workloads: []string{"*"}, Sites: []string{"*"}}
	loose, err := key.Seal("tide")
	if err != nil {
		t.Fatal(err)
	}
	want := key.Mark("tide")
	if got := load(file("fares", loose), everything); got != want {
		t.Errorf("sealed for no place, in the only repository: %s", got)
	}
	if got := load(file("fares", loose), some); !strings.Contains(got, "not sealed for a place") || !strings.Contains(got, "x.yaml:9") || !strings.Contains(got, "--for fares/login/password") {
		t.Errorf("sealed for no place, in one of several: %s", got)
	}
	text, n, err := Bind(File{Name: "x.yaml", Text: file("fares", loose)}, key)
	if err != nil || n != 2 {
		t.Fatalf("%d are bound (%v)", n, err)
	}
	for _, g := range []declare.Grant{everything, some} {
		if got := load(text, g); got != want {
			t.Errorf("at its place: %s", got)
		}
		if got := load([]byte(strings.Replace(string(text), "workload: fares", "workload: tides", 1)), g); !strings.Contains(got, "it is sealed for fares/login/password, and not for tides/login/password") {
			t.Errorf("pasted elsewhere: %s", got)
		}
	}
	for _, part := range []string{"# stays\n", "password: | # theirs\n", "values: {a: b}}  # and this\n"} {
		if !strings.Contains(string(text), part) {
			t.Errorf("%q is gone", part)
		}
	}
	if again, n, err := Bind(File{Name: "x.yaml", Text: text}, key); err != nil || n != 0 || string(again) != string(text) {
		t.Errorf("once more %d are bound (%v)", n, err)
	}
	place := Place{"fares", "login", "password"}
	for _, value := range []string{"", "a\nb", "aditus secret of nothing", "aditus secret of a/b/c"} {
		sealed, err := key.SealFor(place, value)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := key.Open(sealed); err != nil || got != value {
			t.Errorf("%q came back as %q (%v)", value, got, err)
		}
	}
	if _, _, err := Bind(File{Name: "north.yaml", Text: []byte("parts: {login: {values: {password: \"-----BEGIN AGE ENCRYPTED FILE-----\"}}}\n")}, key); err == nil {
		t.Error("what does not open is bound")
	}
}
