package declare

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
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
	Pointer string // of the part: the field that claims it
	Host    string // that is claimed; empty for all that no other takes, and for a port
	Shared  bool   // who writes a repository may part it among workloads of it, as by paths
}

// Claims are what a part claims at a site.
func (p Part) Claims() (all []Claim) {
	switch {
	case p.Kind == Objects:
		for _, host := range p.objectHosts() {
			all = append(all, Claim{What: "the host name " + host, Pointer: "objects", Host: host, Shared: true})
		}
		return all
	case p.Kind != Route:
		return nil
	case p.TCP != 0:
		return []Claim{{What: fmt.Sprintf("TCP port %d", p.TCP), Pointer: "tcp"}}
	case p.Host == "":
		all = []Claim{{What: "all that comes under no other host name", Pointer: "host"}}
	default:
		all = []Claim{{What: "the host name " + p.Host, Pointer: "host", Host: p.Host}}
	}
	if p.Preview != "" {
		all = append(all, Claim{What: "the host name " + p.Preview, Pointer: "preview", Host: p.Preview})
	}
	return all
}

// objectHosts are the host names that objects of a cluster's API claim: routes of the Gateway API, and Ingresses. A name of a pattern is told
// as it is written; one that claims every name is "*".
func (p Part) objectHosts() (hosts []string) {
	add := func(value any) {
		text, _ := value.(string)
		if name, whole := HostName(text); whole {
			text = name
		}
		if text = strings.ToLower(cmp.Or(text, "*")); !slices.Contains(hosts, text) {
			hosts = append(hosts, text)
		}
	}
	list := func(of any, key string) []any {
		object, _ := of.(map[string]any)
		items, _ := object[key].([]any)
		return items
	}
	for _, id := range slices.Sorted(maps.Keys(p.Objects)) {
		o := p.Objects[id]
		spec := o["spec"]
		group, _, _ := strings.Cut(fmt.Sprint(o["apiVersion"]), "/")
		switch kind := o["kind"]; {
		case group == "gateway.networking.k8s.io" && (kind == "HTTPRoute" || kind == "GRPCRoute" || kind == "TLSRoute"):
			names := list(spec, "hostnames")
			for _, name := range names {
				add(name)
			}
			if len(names) == 0 {
				add("")
			}
		case group == "networking.k8s.io" && kind == "Ingress":
			for _, rule := range list(spec, "rules") {
				of, _ := rule.(map[string]any)
				add(of["host"])
			}
			if len(list(spec, "rules")) == 0 {
				add("")
			}
		}
	}
	return hosts
}
