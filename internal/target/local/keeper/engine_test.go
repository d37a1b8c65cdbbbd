package keeper

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"aditus/internal/limit"
	"aditus/internal/target/containers/host"
)

// TestChangedOf tells what of a container is not as it was made.
func TestChangedOf(t *testing.T) {
	spec := Process{Limits: &limit.Limits{CPU: 0.5, Memory: 64 << 20}, Container: &Container{Image: "web:1", Network: "line", Mounts: []host.Mount{{Type: "bind", Source: "/run/a", Target: "/run/aditus/settings", ReadOnly: true}, {Type: "volume", Source: "hold", Target: "/data"}}}}
	as := `{"State":{"Running":true},"Config":{"Image":"web:1","Env":["PATH=/bin","SEASON=summer","PORT=8080"]},"HostConfig":{"Memory":67108864,"NanoCpus":500000000},
		"Mounts":[{"Type":"bind","Source":"/run/a","Destination":"/run/aditus/settings","RW":false},{"Type":"volume","Name":"hold","Source":"/var/hold","Destination":"/data","RW":true},{"Type":"tmpfs","Destination":"/tmp","RW":true}],
		"NetworkSettings":{"Networks":{"line":{}}}}`
	for name, test := range map[string]struct{ from, to, want string }{
		"as it was made":     {"", "", ""},
		"paused":             {`"Running":true`, `"Running":true,"Paused":true`, "paused"},
		"more memory":        {"67108864", "134217728", "held to 128 MiB of memory"},
		"no limit":           {"500000000", "0", "held to no limit"},
		"another image":      {`"Image":"web:1"`, `"Image":"web:2"`, "of the image web:2"},
		"another folder":     {"/run/a\"", "/etc\"", "with another bind at /run/aditus/settings"},
		"a folder writable":  {`settings","RW":false`, `settings","RW":true`, "with another bind at /run/aditus/settings"},
		"another volume":     {`"Name":"hold"`, `"Name":"other"`, "with another volume at /data"},
		"another network":    {`"line":{}`, `"line":{},"other":{}`, "in the network other"},
		"out of its network": {`"line":{}`, ``, "out of its network"},
	} {
		if !strings.Contains(as, test.from) {
			t.Fatalf("%s: %q is not there", name, test.from)
		}
		var c host.Container
		if err := json.Unmarshal([]byte(strings.Replace(as, test.from, test.to, 1)), &c); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		want := []string{}
		if test.want != "" {
			want = append(want, test.want)
		}
		if got := changedOf(spec, c); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
	}
}
