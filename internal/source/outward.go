package source

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"syscall"
	"time"

	"github.com/google/go-containerregistry/pkg/v1/remote"
)

// insideError means that a host that a declaration named, or a registry sent us on to, is on this machine or on its own network.
type insideError struct{ host, at string }

func (e *insideError) Error() string {
	return fmt.Sprintf("%s is at %s, which is of this machine or of its network, and not to be asked unless the settings list it under registries", e.host, e.at)
}

// outward is a way out that leads to no address of this machine or of its network, but for hosts that are allowed. Who may write a
// declaration, or run a registry, does not say otherwise what this machine asks.
func outward(allowed func(host string) bool) http.RoundTripper {
	way := remote.DefaultTransport.(*http.Transport).Clone()
	way.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		host, _, _ := net.SplitHostPort(address)
		dialer := net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}
		if !allowed(address) && !allowed(host) && !proxies(address) {
			dialer.Control = func(_, to string, _ syscall.RawConn) error {
				if at, err := netip.ParseAddrPort(to); err != nil || inside(at.Addr()) {
					return &insideError{host, to}
				}
				return nil
			}
		}
		return dialer.DialContext(ctx, network, address)
	}
	return way
}

// inside tells whether an address is not one of the open network.
func inside(at netip.Addr) bool {
	at = at.Unmap()
	return !at.IsGlobalUnicast() || at.IsPrivate() || slices.ContainsFunc(shared, func(p netip.Prefix) bool { return p.Contains(at) })
}

// shared are addresses that are not private, and not of the open network either: of carriers (RFC 6598), of the translation to IPv4
// (RFC 6052), which may lead to any, and of tests of networks (RFC 2544).
var shared = []netip.Prefix{netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("198.18.0.0/15")}

// proxies tells whether an address is that of the proxy that the environment names.
func proxies(address string) bool {
	ports := map[string]string{"http": "80", "https": "443", "socks5": "1080", "socks5h": "1080"}
	for _, name := range []string{"HTTPS_PROXY", "https_proxy", "HTTP_PROXY", "http_proxy"} {
		text := os.Getenv(name)
		if text == "" {
			continue
		}
		at, err := url.Parse(text)
		if err != nil || at.Host == "" {
			at, err = url.Parse("http://" + text)
		}
		if err == nil && net.JoinHostPort(at.Hostname(), cmp.Or(at.Port(), ports[at.Scheme])) == address {
			return true
		}
	}
	return false
}
