package sole

import (
	"os"
)

// Environment is what keeper and router get to know of the environment that whoever starts them was given: where things are, and no
// token, password or address.
func Environment() (kept []string) {
	for _, name := range []string{"PATH", "HOME", "USER", "LOGNAME", "LANG", "LC_ALL", "TZ", "TMPDIR", "XDG_RUNTIME_DIR", "GOCOVERDIR", "GODEBUG"} {
		if value, is := os.LookupEnv(name); is {
			kept = append(kept, name+"="+value)
		}
	}
	return kept
}
