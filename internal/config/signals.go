package config

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"

	"aditus/internal/core/signal"
	"aditus/internal/dial"
)

// MetricsStore is where signals are asked for that instances do not tell themselves.
type MetricsStore struct {
	Name       string `yaml:"name" jsonschema:"required,minLength=1" jsonschema_description:"As store of a guard's signal has it."`
	URL        string `yaml:"url,omitempty" jsonschema:"oneof_required=url" jsonschema_description:"Where its HTTP query API is, without /api/v1."`
	Page       string `yaml:"page,omitempty" jsonschema:"oneof_required=page" jsonschema_description:"Or the address of a metrics page that tells of many instances, such as a collector's."`
	Credential string `yaml:"credential,omitempty" jsonschema_description:"Its user and password, or a token where it has no user."`
	CA         string `yaml:"ca,omitempty" jsonschema_description:"A file of further certificates to trust."`
}

// AlertSource is something that says by POST /alerts/NAME what fires.
type AlertSource struct {
	Name       string `yaml:"name" jsonschema:"required,pattern=^[A-Za-z0-9._-]+$" jsonschema_description:"As alert of a guard's signal has it."`
	Credential string `yaml:"credential" jsonschema:"required" jsonschema_description:"Its password is the token that what it says comes with, or the secret that it is signed with."`
	Workload   string `yaml:"workload" jsonschema:"required,minLength=1" jsonschema_description:"The label that names the workload."`
	Site       string `yaml:"site,omitempty" jsonschema_description:"The label that names the site; all of them where it is left out, or an alert has no such label."`
}

// OTLP says where instances may push what they measure.
type OTLP struct {
	Listen     string `yaml:"listen" jsonschema:"required,pattern=:[0-9]+$" jsonschema_description:"Where metrics come in by OTLP over HTTP, HOST:PORT, at /v1/metrics."`
	Credential string `yaml:"credential,omitempty" jsonschema_description:"Its password is the token that they come with; none is asked for where it is left out, which is for this machine alone."`
}

// PushedStore is what guards call what is pushed, where they name a metrics store.
const PushedStore = "otlp"

// StoreOf is the metrics store of a name; false where there is none.
func (s Settings) StoreOf(name string) (MetricsStore, bool) {
	i := slices.IndexFunc(s.MetricsStores, func(m MetricsStore) bool { return m.Name == name })
	if i < 0 {
		return MetricsStore{}, false
	}
	return s.MetricsStores[i], true
}

// AlertsOf is who says what fires by a name; false where nobody does.
func (s Settings) AlertsOf(name string) (AlertSource, bool) {
	i := slices.IndexFunc(s.Alerts, func(a AlertSource) bool { return a.Name == name })
	if i < 0 {
		return AlertSource{}, false
	}
	return s.Alerts[i], true
}

// Knows tells why a signal cannot be read by these settings, as they do not say where; nil where they do.
func (s Settings) Knows(source signal.Source) error {
	switch name := source.Store; {
	case source.Kind == signal.Alert:
		if _, known := s.AlertsOf(source.Of.Metric); !known {
			return fmt.Errorf("the settings have no alerts %s: write it there, alerts: [{name: %s, credential: NAME, workload: LABEL}]", source.Of.Metric, source.Of.Metric)
		}
	case name == PushedStore:
		if s.OTLP == nil {
			return errors.New("the settings say nowhere that metrics may be pushed: write it there, otlp: {listen: HOST:PORT}")
		}
	case name != "":
		if _, known := s.StoreOf(name); !known {
			return fmt.Errorf("the settings have no metrics store %s: write it there, metrics-stores: [{name: %s, url: …}]", name, name)
		}
	}
	return nil
}

func (s Settings) checkSignals() error {
	if o := s.OTLP; o != nil {
		host, _, err := net.SplitHostPort(o.Listen)
		if err != nil {
			return fmt.Errorf("otlp: %q is no address; write it like listen: 127.0.0.1:4318", o.Listen)
		}
		if o.Credential == "" && !dial.Loopback(host) {
			return fmt.Errorf("otlp: %s can be reached from elsewhere, and anybody there could push: give a token with aditus link credential otlp, and write credential: otlp", o.Listen)
		}
	}
	seen := map[string]bool{}
	for _, m := range s.MetricsStores {
		switch at, err := url.Parse(m.URL + m.Page); {
		case m.Name == "":
			return errors.New("metrics-stores: one has no name")
		case (m.URL == "") == (m.Page == ""):
			return fmt.Errorf("metrics-stores: %s: it takes one of url, where its query API is, and page, a metrics page that tells of many instances", m.Name)
		case m.Name == PushedStore:
			return errors.New("metrics-stores: otlp is what guards call what instances push: choose another name")
		case seen["m "+m.Name]:
			return fmt.Errorf("metrics-stores: %s stands there twice", m.Name)
		case err == nil && at.User != nil:
			return fmt.Errorf("metrics-stores: %s: url: it has a password in it: give it with aditus link credential %s, and write credential: %s", m.Name, m.Name, m.Name)
		}
		if err := checkURL("address", m.URL+m.Page); err != nil {
			return fmt.Errorf("metrics-stores: %s: %w", m.Name, err)
		}
		seen["m "+m.Name] = true
	}
	for _, a := range s.Alerts {
		switch {
		case a.Name == "" || url.PathEscape(a.Name) != a.Name:
			return fmt.Errorf("alerts: %q is no name for what comes to /alerts/NAME", a.Name)
		case seen["a "+a.Name]:
			return fmt.Errorf("alerts: %s stands there twice", a.Name)
		case a.Credential == "" || a.Workload == "":
			return fmt.Errorf("alerts: %s: it takes credential, by which what it says is known to be its own, and workload, the label that names the workload", a.Name)
		}
		seen["a "+a.Name] = true
	}
	if len(s.Alerts) > 0 && s.Listen == "" {
		return errors.New("alerts: they come in where listen says, and it says nothing; write it like listen: 127.0.0.1:8790")
	}
	return nil
}
