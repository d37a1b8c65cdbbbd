package config

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"
	"go.yaml.in/yaml/v4"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

// May says what those who may push to a link's repository may declare: everything, or what is listed.
type May struct {
	Everything bool           `yaml:"-"`
	Workloads  []string       `yaml:"workloads,omitempty" jsonschema_description:"Names; * stands for any letters."`
	Sites      []string       `yaml:"sites,omitempty" jsonschema_description:"Names, likewise."`
	Kinds      []declare.Kind `yaml:"kinds,omitempty" jsonschema_description:"Of parts; all where none is named."`
	Hosts      []string       `yaml:"hosts,omitempty" jsonschema_description:"Host names of routes and previews, such as *.skerry.example; * alone also for routes without one."`
	Ports      []string       `yaml:"ports,omitempty" jsonschema_description:"TCP ports of routes, such as 5432 or 6000-6010."`
	Registries []string       `yaml:"registries,omitempty" jsonschema_description:"Hosts that artifacts come from."`
	Files      []string       `yaml:"files,omitempty" jsonschema_description:"Folders of this machine that artifacts of file: may lie in."`
	Stores     []string       `yaml:"stores,omitempty" jsonschema_description:"Metrics stores that guards may ask; * stands for any letters."`
	Reads      []string       `yaml:"reads,omitempty" jsonschema_description:"Workloads whose signals guards may read, beside those that it may declare; likewise."`
	Instances  int            `yaml:"instances,omitempty" jsonschema:"minimum=0" jsonschema_description:"Of one workload at one site at most."`
	Memory     string         `yaml:"memory,omitempty" jsonschema_description:"Of all of these, as their limits say."`
	Volumes    string         `yaml:"volumes,omitempty" jsonschema_description:"Of all volumes of one workload at one site."`
}

// everything is written for a link that may declare all that there is.
const everything = "everything"

// UnmarshalYAML implements yaml.Unmarshaler.
func (m *May) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		if n.Value != everything {
			return fmt.Errorf("line %d: may: it is %q, and may be %s, or a mapping of what may be declared", n.Line, n.Value, everything)
		}
		m.Everything = true
		return nil
	}
	type plain May
	known := []string{"workloads", "sites", "kinds", "hosts", "ports", "registries", "files", "stores", "reads", "instances", "memory", "volumes"}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if !slices.Contains(known, n.Content[i].Value) {
			return fmt.Errorf("line %d: may: there is no %q; there are %s", n.Content[i].Line, n.Content[i].Value, strings.Join(known, ", "))
		}
	}
	return n.Decode((*plain)(m))
}

// MarshalYAML implements yaml.Marshaler.
func (m May) MarshalYAML() (any, error) {
	if m.Everything {
		return everything, nil
	}
	type plain May
	return plain(m), nil
}

// JSONSchema is the schema of the two ways to write it.
func (May) JSONSchema() *jsonschema.Schema {
	type plain May
	listed := (&jsonschema.Reflector{DoNotReference: true, Anonymous: true, FieldNameTag: "yaml"}).Reflect(plain{})
	listed.Version = ""
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{{Const: everything}, listed}}
}

func (m May) check() error {
	for what, patterns := range map[string][]string{"workloads": m.Workloads, "sites": m.Sites, "hosts": m.Hosts, "registries": m.Registries, "stores": m.Stores, "reads": m.Reads} {
		for _, p := range patterns {
			if _, err := path.Match(p, ""); err != nil {
				return fmt.Errorf("%s: %q is no pattern: %w", what, p, err)
			}
		}
	}
	for _, k := range m.Kinds {
		if !slices.Contains(declare.Kinds, k) {
			return fmt.Errorf("kinds: there is no kind of part %q", k)
		}
	}
	for _, p := range m.Ports {
		if _, _, ok := declare.PortRange(p); !ok {
			return fmt.Errorf("ports: %q is no port; write it like 5432, or 6000-6010", p)
		}
	}
	for _, f := range m.Files {
		if !filepath.IsAbs(f) {
			return fmt.Errorf("files: %q is no folder by its whole path", f)
		}
	}
	if m.Instances < 0 {
		return errors.New("instances: it cannot be less than 0")
	}
	_, err := m.grant()
	return err
}

func (m May) grant() (declare.Grant, error) {
	g := declare.Grant{Everything: m.Everything, Workloads: m.Workloads, Sites: m.Sites, Kinds: m.Kinds, Ports: m.Ports, Registries: m.Registries, Files: m.Files, Stores: m.Stores, Reads: m.Reads, Instances: m.Instances}
	for _, host := range m.Hosts {
		name, whole := declare.HostName(host)
		if !whole { // a pattern
			name = strings.ToLower(strings.TrimSuffix(host, "."))
		}
		g.Hosts = append(g.Hosts, name)
	}
	var err, err2 error
	g.Memory, err = amount("memory", m.Memory)
	g.Volumes, err2 = amount("volumes", m.Volumes)
	return g, errors.Join(err, err2)
}

// Grant is what may be declared in the link's repository, where there are so many links.
func (l Link) Grant(links int) declare.Grant {
	if l.May == nil {
		return declare.Grant{Everything: links == 1}
	}
	g, _ := l.May.grant() // it was checked
	return g
}

// MayOf is the least that lets something be declared.
func MayOf(g declare.Grant) May {
	return May{Workloads: g.Workloads, Sites: g.Sites, Kinds: g.Kinds, Hosts: g.Hosts, Ports: g.Ports, Registries: g.Registries, Files: g.Files, Stores: g.Stores, Reads: g.Reads}
}

func amount(what, text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	bytes, err := declare.ReadMeasure(text, guard.Bytes)
	if err != nil {
		return 0, fmt.Errorf("%s: %q is no amount; write it like 2 GB", what, text)
	}
	return int64(bytes), nil
}
