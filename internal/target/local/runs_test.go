package local

import (
	"strings"
	"testing"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// TestRuns tries artifacts and commands before anything is declared.
func TestRuns(t *testing.T) {
	good, two := artifact(t, "good", behaviour{}), archive(t, "two", map[string]string{"one": "a", "other": "b"})
	ports := map[string]int{"http": 8080}
	for _, test := range []struct {
		name       string
		part       declare.Part
		doubt, why string
	}{
		{"an executable alone", declare.Part{Artifact: good, Ports: ports}, "", ""},
		{"it is not said which", declare.Part{Artifact: two}, "", "does not say what to run"},
		{"one of two", declare.Part{Artifact: two, Command: []string{"other"}}, "", ""},
		{"none of the name", declare.Part{Artifact: two, Command: []string{"third"}}, "", `no executable "third" in it, and no program of that name in /usr/local/bin, /usr/bin, /bin, /opt/skerry`},
		{"in a folder of it", declare.Part{Artifact: two, Command: []string{"bin/one"}}, "", `no executable "bin/one" in it`},
		{"no artifact there", declare.Part{Artifact: "file:/nowhere/x.tar"}, "", "/nowhere/x.tar"},
		{"a program of the machine by name", declare.Part{Command: []string{"sleep", "1"}}, "", ""},
		{"by its whole path", declare.Part{Command: []string{"/bin/sleep", "1"}}, "", ""},
		{"in a folder that is not allowed", declare.Part{Command: []string{"/proc/self/exe"}}, "", "does not allow: add its folder with programs: [/proc/self]"},
		{"out of an allowed folder", declare.Part{Command: []string{"/bin/../proc/self/exe"}}, "", "does not allow"},
		{"not there", declare.Part{Command: []string{"/bin/no-such"}}, "", "neither in it nor on this machine"},
		{"its port as a number", declare.Part{Artifact: good, Ports: ports, Command: []string{"service", "--listen", ":8080"}}, "write $PORT_HTTP in its command", ""},
		{"in a file", declare.Part{Artifact: good, Ports: ports, Files: map[string]declare.File{"x.conf": {Text: "listen 8080;"}}}, "${PORT_HTTP} in its files", ""},
		{"another number", declare.Part{Artifact: good, Ports: ports, Command: []string{"service", "--listen", ":18080"}}, "", ""},
		{"its very own port", declare.Part{Artifact: good, Ports: ports, Command: []string{"service", ":8080"}, Fixed: true}, "", ""},
	} {
		doubt, err := runs(t.Context(), target.Ground{}, config.Target{Programs: []string{"/opt/skerry"}}, test.part)
		if test.why == "" && err != nil || test.why != "" && (err == nil || !strings.Contains(err.Error(), test.why)) || (doubt == "") != (test.doubt == "") || !strings.Contains(doubt, test.doubt) {
			t.Errorf("%s: %q, %v", test.name, doubt, err)
		}
	}
	if err := check(config.Target{Programs: []string{"opt"}}); err == nil || !strings.Contains(err.Error(), "write it like /usr/lib/postgresql/17/bin") {
		t.Errorf("a folder by half: %v", err)
	}
}
