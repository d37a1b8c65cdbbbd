package declare

import (
	"fmt"
	"net/netip"
	"regexp"
	"strings"

	"golang.org/x/net/idna"
)

// hostProfile makes a name of letters beyond ASCII what resolvers ask for (RFC 5891), and compares names as they do.
var hostProfile = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.Transitional(false), idna.StrictDomainName(false))

var labelPattern = regexp.MustCompile(`^[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?$`)

// HostName gives a host name as it is compared: lower case, without the dot at its end, in ASCII; an address as it is. It is false for
// what is none, such as one with a port.
func HostName(text string) (string, bool) {
	if at, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return at.String(), true
	}
	name, err := hostProfile.ToASCII(strings.TrimSuffix(text, "."))
	if err != nil || name == "" || len(name) > 253 {
		return "", false
	}
	for label := range strings.SplitSeq(name, ".") {
		if !labelPattern.MatchString(label) {
			return "", false
		}
	}
	return name, true
}

// Claim is what a route takes for itself at a site: a host name, for visitors or for previews, a TCP port, or all that no other takes.
type Claim struct {
	What    string // is the same where two claim the same
	Pointer string // of the route's part: the field that claims it
}

// Claims are what a part claims at a site.
func (p Part) Claims() (all []Claim) {
	switch {
	case p.Kind != Route:
		return nil
	case p.TCP != 0:
		return []Claim{{fmt.Sprintf("TCP port %d", p.TCP), "tcp"}}
	case p.Host == "":
		all = []Claim{{"all that comes under no other host name", "host"}}
	default:
		all = []Claim{{"the host name " + p.Host, "host"}}
	}
	if p.Preview != "" {
		all = append(all, Claim{"the host name " + p.Preview, "preview"})
	}
	return all
}
