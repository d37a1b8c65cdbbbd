package dial

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
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

// Outside is a way to servers that the settings name, where the certificates of a file are trusted too; empty for the system's alone.
func Outside(ca string) (*http.Transport, error) {
	way := http.DefaultTransport.(*http.Transport).Clone()
	if ca != "" {
		pool, err := Trusted(ca)
		if err != nil {
			return nil, err
		}
		way.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return way, nil
}

// Stay keeps a client from being sent elsewhere.
func Stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// Loopback tells whether a host, by name or address, is this machine, whatever its network.
func Loopback(host string) bool {
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
