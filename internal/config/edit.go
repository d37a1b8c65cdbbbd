package config

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"go.yaml.in/yaml/v4"

	"aditus/internal/disk"
)

// settingsDisk is what the settings are kept on.
var settingsDisk = disk.Machine

// Edit changes the settings of a data folder and keeps what people wrote beside them: comments and order. The
// change is given the document's root mapping; what comes out is checked before it takes the old one's place. Where
// there are no settings yet the change starts from first.
func Edit(folder string, first Settings, change func(root *yaml.Node) error) (s Settings, err error) {
	return edited(folder, first, change, nil)
}

// edited does so, where check has nothing against what comes out; it may be nil.
func edited(folder string, first Settings, change func(root *yaml.Node) error, check func(Settings) error) (s Settings, err error) {
	err = disk.Alone(folder, func() error {
		s, err = edit(folder, first, change, check)
		return err
	})
	return s, err
}

func edit(folder string, first Settings, change func(root *yaml.Node) error, check func(Settings) error) (Settings, error) {
	name := filepath.Join(folder, FileName)
	text, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		text, err = first.Text()
	}
	if err != nil {
		return Settings{}, fmt.Errorf("change the settings: %w", err)
	}
	var document yaml.Node
	if err := yaml.Unmarshal(text, &document); err != nil {
		return Settings{}, fmt.Errorf("change the settings %s: %w", name, err)
	}
	if len(document.Content) != 1 || document.Content[0].Kind != yaml.MappingNode {
		return Settings{}, fmt.Errorf("change the settings %s: they are no mapping", name)
	}
	if err := change(document.Content[0]); err != nil {
		return Settings{}, err
	}
	var out bytes.Buffer
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	if err := errors.Join(encoder.Encode(&document), encoder.Close()); err != nil {
		return Settings{}, fmt.Errorf("change the settings %s: %w", name, err)
	}
	s, err := Read(name, out.Bytes())
	if err == nil && check != nil {
		err = check(s)
	}
	if err != nil {
		return s, err
	}
	if err := disk.Keep(settingsDisk, name, out.Bytes(), 0o600); err != nil {
		return s, fmt.Errorf("change the settings: %w", err)
	}
	return s, nil
}

// listIn gives the list under a key of a mapping, and makes it where there is none.
func listIn(root *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value == key {
			if root.Content[i+1].Kind != yaml.SequenceNode {
				root.Content[i+1] = &yaml.Node{Kind: yaml.SequenceNode}
			}
			root.Content[i+1].Style &^= yaml.FlowStyle
			return root.Content[i+1]
		}
	}
	list := &yaml.Node{Kind: yaml.SequenceNode}
	root.Content = append(root.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, list)
	return list
}

// named gives the entry of a list that has a name, and its place; nil where there is none.
func named(list *yaml.Node, name string) (*yaml.Node, int) { return keyedBy(list, "name", name) }

// AddLink adds a link to the settings of a data folder, and the sites that are not among them yet: as they come, taking
// revisions by hand only. skip are hosts of registries that are not asked.
func AddLink(folder string, first Settings, link Link, sites []Site, skip []string) (Settings, error) {
	return Edit(folder, first, func(root *yaml.Node) error {
		links := listIn(root, "links")
		if found, _ := named(links, link.Name); found != nil {
			return fmt.Errorf("there is a link %s already; remove it first, or give this one another name", link.Name)
		}
		var node yaml.Node
		if err := node.Encode(link); err != nil {
			return err
		}
		links.Content = append(links.Content, &node)
		list := listIn(root, "sites")
		for _, site := range sites {
			if found, _ := named(list, site.Name); found != nil {
				continue
			}
			var node yaml.Node
			if err := node.Encode(site); err != nil {
				return err
			}
			list.Content = append(list.Content, &node)
		}
		return skipRegistries(root, skip)
	})
}

// skipRegistries lets registries be skipped that are not listed yet.
func skipRegistries(root *yaml.Node, hosts []string) error {
	if len(hosts) == 0 {
		return nil
	}
	var s Settings
	if err := root.Decode(&s); err != nil {
		return err
	}
	if s.Registries == nil {
		s.Registries = map[string]Registry{}
	}
	for _, host := range hosts {
		s.Registries[host] = Registry{Skip: true}
	}
	var node yaml.Node
	if err := node.Encode(s.Registries); err != nil {
		return err
	}
	put(root, "registries", &node)
	return nil
}

// RemoveLink takes a link out of the settings of a data folder. What it declared stays live.
func RemoveLink(folder, name string) error {
	_, err := Edit(folder, Settings{}, func(root *yaml.Node) error {
		links := listIn(root, "links")
		_, at := named(links, name)
		if at < 0 {
			return noLink(links, name)
		}
		links.Content = append(links.Content[:at], links.Content[at+1:]...)
		return nil
	})
	return err
}

// SetEvery changes a link's polling interval in the settings of a data folder.
func SetEvery(folder, name string, every time.Duration) error {
	_, err := setOfLink(folder, name, "every", every.String())
	return err
}

// SetMay writes what a link's repository may declare into the settings of a data folder.
func SetMay(folder, name string, may May) (Settings, error) {
	return setOfLink(folder, name, "may", may)
}

// SetInstances writes as whom instances run into the settings of a data folder.
func SetInstances(folder string, i Instances) (Settings, error) {
	return Edit(folder, Settings{}, func(root *yaml.Node) error {
		var node yaml.Node
		if err := node.Encode(i); err != nil {
			return err
		}
		put(root, "instances", &node)
		for at, key := range root.Content {
			if key.Value == "instances" && at%2 == 0 {
				key.HeadComment = "Each workload at a local site of this machine runs as a user of its own; users: " + NoUsers + " has all run as the one that Aditus runs as."
			}
		}
		return nil
	})
}

// setOfLink gives a key of a link another value.
func setOfLink(folder, name, key string, value any) (Settings, error) {
	return Edit(folder, Settings{}, func(root *yaml.Node) error {
		links := listIn(root, "links")
		found, _ := named(links, name)
		if found == nil {
			return noLink(links, name)
		}
		var node yaml.Node
		if err := node.Encode(value); err != nil {
			return err
		}
		put(found, key, &node)
		return nil
	})
}

// noLink is ErrNoLink for links as they are written.
func noLink(links *yaml.Node, name string) error {
	var all []Link
	links.Decode(&all) // what is not right in them is told elsewhere
	return Settings{Links: all}.ErrNoLink(name)
}

// put gives a key of a mapping a value. What people wrote behind the value before stays.
func put(mapping *yaml.Node, key string, value *yaml.Node) {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if before := mapping.Content[i+1]; mapping.Content[i].Value == key {
			value.HeadComment, value.LineComment, value.FootComment = before.HeadComment, before.LineComment, before.FootComment
			mapping.Content[i+1] = value
			return
		}
	}
	mapping.Content = append(mapping.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, value)
}
