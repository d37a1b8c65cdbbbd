package scrape

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"strings"
	"sync"

	"aditus/internal/core/declare"
	"aditus/internal/dial"
)

// secure are the clients that ask by https, each with what it trusts and shows.
type secure struct {
	mu      sync.Mutex
	clients map[secureKey]*dial.Client
}

// secureKey tells clients apart.
type secureKey struct {
	way                        http.RoundTripper
	host, ca, certificate, key string
}

// mostSecure is how many such clients are kept.
const mostSecure = 500

func (s *secure) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, client := range s.clients {
		client.Close()
	}
	clear(s.clients)
}

// asked gives who asks for a page, and with which headers.
func (s *Scraper) asked(m declare.Metrics, access map[string]string) (*dial.Client, http.Header, error) {
	headers := asks
	switch {
	case access["token"] != "":
		headers = maps.Clone(asks)
		headers.Set("Authorization", "Bearer "+strings.TrimSpace(access["token"]))
	case access["user"]+access["password"] != "":
		headers = maps.Clone(asks)
		headers.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(access["user"]+":"+access["password"])))
	}
	if m.Scheme == "" {
		return s.client, headers, nil
	}
	if !s.client.Connects() { // what way that is need not be comparable
		return nil, nil, dial.ErrPlain
	}
	key := secureKey{s.way, m.Host, access["ca"], access["certificate"], access["key"]}
	s.secure.mu.Lock()
	defer s.secure.mu.Unlock()
	if client := s.secure.clients[key]; client != nil {
		return client, headers, nil
	}
	settings, err := key.settings()
	if err != nil {
		return nil, nil, err
	}
	client, err := s.client.Secure(settings)
	if err != nil {
		return nil, nil, err
	}
	if len(s.secure.clients) >= mostSecure {
		for _, old := range s.secure.clients {
			old.Close()
		}
		clear(s.secure.clients)
	}
	s.secure.clients[key] = client
	return client, headers, nil
}

// settings are what is trusted and shown.
func (k secureKey) settings() (*tls.Config, error) {
	c := &tls.Config{ServerName: k.host, MinVersion: tls.VersionTLS12}
	if k.ca != "" {
		if c.RootCAs = x509.NewCertPool(); !c.RootCAs.AppendCertsFromPEM([]byte(k.ca)) {
			return nil, errors.New("ca of its secret has no certificate in PEM")
		}
	}
	if k.certificate+k.key != "" {
		own, err := tls.X509KeyPair([]byte(k.certificate), []byte(k.key))
		if err != nil {
			return nil, fmt.Errorf("certificate and key of its secret do not belong together, or are not in PEM: %w", err)
		}
		c.Certificates = []tls.Certificate{own}
	}
	return c, nil
}

// why tells why nobody answered: also what is to be mended where one side does not trust the other.
func why(err error) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	switch {
	case errors.As(err, &unknown):
		return "its certificate is not trusted: put the one that signed it into ca of the secret that metrics names"
	case errors.As(err, &name):
		return "its certificate is of another name: write the one that stands in it in host of metrics"
	case errors.Is(err, http.ErrSchemeMismatch):
		return "it does not speak https: leave scheme out"
	}
	return dial.Why(err, timeout)
}
