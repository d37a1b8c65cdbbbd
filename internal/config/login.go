package config

import (
	"errors"
	"fmt"
	"net/url"

	"aditus/internal/dial"
)

// Login says who tells who people are: a provider of OpenID Connect.
type Login struct {
	Issuer string   `yaml:"issuer" json:"issuer" jsonschema:"required" jsonschema_description:"Its address, such as https://id.skerry.example; what it offers is read there."`
	Client string   `yaml:"client" json:"client" jsonschema:"required" jsonschema_description:"The id of a public client that may use the device authorization grant."`
	Scopes []string `yaml:"scopes,omitempty" json:"scopes,omitempty" jsonschema_description:"Asked for beside openid, profile and offline_access."`
	Name   string   `yaml:"name,omitempty" json:"-" jsonschema:"default=preferred_username" jsonschema_description:"The claim that is a person's name in teams and on record. Take one that people cannot change by themselves."`
	Groups string   `yaml:"groups,omitempty" json:"-" jsonschema:"default=groups" jsonschema_description:"The claim that lists the groups of a person."`
	CA     string   `yaml:"ca,omitempty" json:"-" jsonschema_description:"A file of further certificates to trust."`
}

func (l Login) check() error {
	at, err := url.Parse(l.Issuer)
	if err != nil || at.Host == "" || l.Client == "" {
		return errors.New("it takes issuer, such as https://id.skerry.example, and client")
	}
	if at.Scheme != "https" && !dial.Loopback(at.Hostname()) {
		return fmt.Errorf("issuer: %s: what people show would go there in plain text: write https", l.Issuer)
	}
	return nil
}
