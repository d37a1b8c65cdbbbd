package dial

import (
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"strings"
)

// Trusted are the system's certificates to trust, and those of a file beside them.
func Trusted(file string) (*x509.CertPool, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the certificates to trust: %w", err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("there is no certificate in %s", file)
	}
	return pool, nil
}

// Loopback tells whether a host, by name or address, is this machine, whatever its network.
func Loopback(host string) bool {
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
