package config

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"

	"aditus/internal/core/say"

	"go.yaml.in/yaml/v4"
)

// keyed are the parts of the settings that are lists, by the key that names one of its entries.
var keyed = map[string]string{"links": "name", "sites": "name", "sinks": "name", "follow": "site", "metrics-stores": "name", "alerts": "name"}

// Sections are the parts of the settings of which single entries are put and dropped.
var Sections = []string{"links", "sites", "sinks", "follow", "registries", "metrics-stores", "alerts"}

// ErrMachine means that something in the settings is of the machine itself, and written there alone.
var ErrMachine = errors.New("that is of the machine itself, and written there alone: in settings.yaml, or by the shell on the machine")

// machine are keys whose values name programs and files of the machine that the server is on, or let something reach them.
var machine = []string{"program", "programs", "reach", "must", "ca", "known-hosts", "kubeconfig", "files", "engine", "certificate", "key"}

// OfMachine tells whether an entry names programs or files of the machine.
func OfMachine(section string, value map[string]any) error {
	for key, v := range value {
		switch below := v.(type) {
		case map[string]any:
			if err := OfMachine(section, below); err != nil {
				return err
			}
		case []any:
			if key == "signed" && slices.ContainsFunc(below, func(k any) bool { text, _ := k.(string); return path.IsAbs(text) }) {
				return fmt.Errorf("signed: a file: %w; write the key itself", ErrMachine)
			}
		}
		if slices.Contains(machine, key) {
			return fmt.Errorf("%s: %w", key, ErrMachine)
		}
	}
	if at, _ := value["repository"].(string); section == "links" && at != "" && (Link{Repository: at}).Local() != "" {
		return fmt.Errorf("repository: %w", ErrMachine)
	}
	return nil
}

// stays tells whether an entry has something that nobody takes away from far off: what is of the machine, and whose signatures it asks for.
func stays(value map[string]any) error {
	for key, v := range value {
		if key == "signed" {
			return fmt.Errorf("signed: %w", ErrMachine)
		}
		if below, ok := v.(map[string]any); ok {
			if err := stays(below); err != nil {
				return err
			}
		}
	}
	return OfMachine("", value)
}

// keyOf is the key that names the entries of a section, where that is a list of them.
func keyOf(section string) (key string, list bool, err error) {
	key, list = keyed[section]
	if !list && section != "registries" {
		err = fmt.Errorf("there is no %q that has entries to be changed: there are %s", section, strings.Join(Sections, ", "))
	}
	return key, list, err
}

// Uses is where an entry has a credential shown, and by which name that is kept; empty for none.
func (e Entry) Uses() (credential, at string) {
	text := func(of map[string]any, key string) string {
		value, _ := of[key].(string)
		return value
	}
	plain := func(of map[string]any) string {
		if is, _ := of["plain"].(bool); is {
			return " in plain text"
		}
		return ""
	}
	switch e.Section {
	case "links":
		where := Link{Repository: text(e.Value, "repository")}.Where()
		return e.Name, hostOf(where) + plain(e.Value)
	case "metrics-stores", "alerts":
		return text(e.Value, "credential"), hostOf(text(e.Value, "url") + text(e.Value, "page"))
	case "registries":
		return e.Name, e.Name + plain(e.Value)
	case "sinks":
		for _, kind := range []string{"webhook", "mail", "chat"} {
			if of, ok := e.Value[kind].(map[string]any); ok {
				return text(of, "credential"), hostOf(text(of, "url")) + text(of, "server")
			}
		}
	}
	return "", ""
}

// hostOf is whom an address leads to, and by which way.
func hostOf(address string) string {
	if at, err := url.Parse(address); err == nil && at.Host != "" {
		return at.Scheme + "://" + at.Host
	}
	host, _, _ := strings.Cut(address, ":") // USER@HOST:PATH
	return host
}

// EntryOf is an entry as settings have it; its value is nil where there is none.
func (s Settings) EntryOf(section, name string) Entry {
	e := Entry{Section: section, Name: name}
	text, err := yaml.Marshal(s)
	var root yaml.Node
	if err != nil || yaml.Unmarshal(text, &root) != nil || len(root.Content) == 0 {
		return e
	}
	found := under(root.Content[0], section)
	if key, list, err := keyOf(section); err == nil && found != nil {
		if list {
			found, _ = keyedBy(found, key, name)
		} else {
			found = under(found, name)
		}
	}
	if found != nil && found.Decode(&e.Value) != nil {
		e.Value = nil
	}
	return e
}

// Entry is one entry of a section of the settings.
type Entry struct {
	Section, Name string
	Value         map[string]any
}

// Put writes entries into the settings of a data folder, all or none, each in place of the one of that name where there is one. What people
// wrote beside the others stays. far is for whoever is not on the machine: what of the entries before is of the machine stays, and nothing of
// that kind is taken. first is what there is where there are no settings yet; check is asked before anything is written, and may be nil.
func Put(folder string, first Settings, entries []Entry, far bool, check func(Settings) error) (Settings, error) {
	for _, e := range entries {
		key, list, err := keyOf(e.Section)
		if err != nil {
			return Settings{}, err
		}
		if said, ok := e.Value[key]; list && ok && said != e.Name {
			return Settings{}, fmt.Errorf("%s: it is %v, and is to be %s", key, said, e.Name)
		}
		if far {
			if err := OfMachine(e.Section, e.Value); err != nil {
				return Settings{}, err
			}
		}
	}
	return edited(folder, first, func(root *yaml.Node) error {
		for _, e := range entries {
			if err := e.put(root, far); err != nil {
				return err
			}
		}
		return nil
	}, check)
}

func (e Entry) put(root *yaml.Node, far bool) error {
	var node yaml.Node
	if err := node.Encode(e.Value); err != nil {
		return err
	}
	key, list, _ := keyOf(e.Section) // it was looked for before
	if !list {
		of := mapIn(root, e.Section)
		if before := under(of, e.Name); far && before != nil {
			carry(before, &node)
		}
		put(of, e.Name, &node)
		return nil
	}
	if _, said := e.Value[key]; !said {
		node.Content = append([]*yaml.Node{{Kind: yaml.ScalarNode, Value: key}, {Kind: yaml.ScalarNode, Value: e.Name}}, node.Content...)
	}
	all := listIn(root, e.Section)
	before, at := keyedBy(all, key, e.Name)
	if at < 0 {
		all.Content = append(all.Content, &node)
		return nil
	}
	if far {
		carry(before, &node)
	}
	uncover(before, &node)
	node.HeadComment, node.LineComment, node.FootComment = before.HeadComment, before.LineComment, before.FootComment
	all.Content[at] = &node
	return nil
}

// Drop takes one entry of a section out of the settings of a data folder; for whoever is not on the machine one alone of which nothing is
// of the machine.
func Drop(folder, section, name string, far bool, check func(Settings) error) (Settings, error) {
	key, list, err := keyOf(section)
	if err != nil {
		return Settings{}, err
	}
	return edited(folder, Settings{}, func(root *yaml.Node) error {
		none := fmt.Errorf("there is no %s among the %s", name, section)
		own := func(entry *yaml.Node) error {
			var value map[string]any
			if err := entry.Decode(&value); err != nil || !far {
				return err
			}
			return stays(value)
		}
		if !list {
			of := mapIn(root, section)
			for i := 0; i+1 < len(of.Content); i += 2 {
				if of.Content[i].Value == name {
					if err := own(of.Content[i+1]); err != nil {
						return err
					}
					of.Content = slices.Delete(of.Content, i, i+2)
					return nil
				}
			}
			return none
		}
		entries := listIn(root, section)
		entry, at := keyedBy(entries, key, name)
		if at < 0 {
			return none
		}
		if err := own(entry); err != nil {
			return err
		}
		entries.Content = slices.Delete(entries.Content, at, at+1)
		return nil
	}, check)
}

// EntryOf finds an entry of links or sites among settings as they are shown.
func EntryOf(shown map[string]any, section, name string) (Entry, error) {
	entries, _ := shown[section].([]any)
	var known []string
	for _, one := range entries {
		value, _ := one.(map[string]any)
		is, _ := value["name"].(string)
		if known = append(known, is); is == name {
			value = maps.Clone(value)
			delete(value, "name")
			return Entry{Section: section, Name: name, Value: value}, nil
		}
	}
	text := fmt.Sprintf("the %s %s does not stand in the settings", strings.TrimSuffix(section, "s"), name)
	if near := say.Mistyped(name, known); near != "" {
		text += "; do you mean " + near + "?"
	}
	return Entry{}, errors.New(text)
}

// Shown gives settings as they may be shown: addresses without what is secret in them.
func (s Settings) Shown() (map[string]any, error) {
	s.Links = slices.Clone(s.Links)
	for i := range s.Links {
		s.Links[i].Repository = s.Links[i].Where()
	}
	s.Sinks = slices.Clone(s.Sinks)
	for i := range s.Sinks {
		if hook := s.Sinks[i].Webhook; hook != nil {
			own := *hook
			own.URL = ShownURL(own.URL)
			s.Sinks[i].Webhook = &own
		}
		if chat := s.Sinks[i].Chat; chat != nil && chat.URL != "" {
			own := *chat
			own.URL = ShownURL(own.URL)
			s.Sinks[i].Chat = &own
		}
	}
	if at, err := url.Parse(s.Ledger); err == nil && s.Ledger != "" {
		s.Ledger = at.Redacted()
	}
	text, err := yaml.Marshal(s)
	if err != nil {
		return nil, err
	}
	var shown map[string]any
	return shown, yaml.Unmarshal(text, &shown)
}

// ShownURL is an address of which nothing that may be secret is left: scheme and host.
func ShownURL(text string) string {
	at, err := url.Parse(text)
	if err != nil {
		return "…"
	}
	return at.Scheme + "://" + at.Host + "/…"
}

// under gives the value under a key of a mapping; nil where there is none.
func under(mapping *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == key {
			return mapping.Content[i+1]
		}
	}
	return nil
}

// uncover puts back into an entry the addresses that stand in it as they are shown, which is without what is secret in them.
func uncover(before, after *yaml.Node) {
	for i := 0; i+1 < len(before.Content); i += 2 {
		key, was := before.Content[i].Value, before.Content[i+1]
		is := under(after, key)
		switch {
		case is == nil:
		case is.Kind == yaml.MappingNode && was.Kind == yaml.MappingNode:
			uncover(was, is)
		case key == "url" && is.Value == ShownURL(was.Value), key == "repository" && is.Value == (Link{Repository: was.Value}).Where():
			is.Value = was.Value
		}
	}
}

// carry takes over into an entry what of the one before is of the machine.
func carry(before, after *yaml.Node) {
	for i := 0; i+1 < len(before.Content); i += 2 {
		key, value := before.Content[i], before.Content[i+1]
		var of any
		if value.Decode(&of) != nil {
			continue
		}
		if stays(map[string]any{key.Value: of}) == nil {
			continue
		}
		if there := under(after, key.Value); there != nil && there.Kind == yaml.MappingNode && value.Kind == yaml.MappingNode {
			carry(value, there)
			continue
		}
		put(after, key.Value, value)
	}
}

// mapIn gives the mapping under a key of a mapping, and makes it where there is none.
func mapIn(root *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value == key && root.Content[i+1].Kind == yaml.MappingNode {
			return root.Content[i+1]
		}
	}
	made := &yaml.Node{Kind: yaml.MappingNode}
	put(root, key, made)
	return made
}

// keyedBy gives the entry of a list that has a value under a key, and its place; -1 where there is none.
func keyedBy(list *yaml.Node, key, value string) (*yaml.Node, int) {
	for i, item := range list.Content {
		for k := 0; k+1 < len(item.Content); k += 2 {
			if item.Content[k].Value == key && item.Content[k+1].Value == value {
				return item, i
			}
		}
	}
	return nil, -1
}
