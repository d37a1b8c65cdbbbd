package source

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"
)

// SetLimit writes another limit for a guard into the text of a declaration and leaves everything else as it stands,
// comments and layout too. It is false where the text has no such guard with such a limit.
func SetLimit(text []byte, guard, kind, limit string) ([]byte, bool, error) {
	var document yaml.Node
	if err := yaml.Unmarshal(text, &document); err != nil {
		return nil, false, fmt.Errorf("the declaration cannot be read: %w", err)
	}
	if len(document.Content) == 0 {
		return nil, false, nil
	}
	guards := child(document.Content[0], "guards")
	if guards == nil || guards.Kind != yaml.SequenceNode {
		return nil, false, nil
	}
	for _, item := range guards.Content {
		name, value := child(item, "name"), child(child(item, "limit"), kind)
		if name == nil || name.Value != guard || value == nil || value.Kind != yaml.ScalarNode {
			continue
		}
		lines := strings.SplitAfter(string(text), "\n")
		line := lines[value.Line-1]
		at := value.Column - 1
		if at > len(line) {
			return nil, false, fmt.Errorf("the limit of %s is not where the parser says; change it by hand", guard)
		}
		written := value.Value
		switch value.Style {
		case yaml.DoubleQuotedStyle:
			written = `"` + written + `"`
		case yaml.SingleQuotedStyle:
			written = "'" + written + "'"
		}
		if !strings.HasPrefix(line[at:], written) {
			return nil, false, fmt.Errorf("the limit of %s is written in a way that cannot be changed without harm, such as %q; change it by hand", guard, strings.TrimSpace(line[at:]))
		}
		lines[value.Line-1] = line[:at] + limit + line[at+len(written):]
		return []byte(strings.Join(lines, "")), true, nil
	}
	return nil, false, nil
}

// child is the value of a key in a mapping; nil where there is none.
func child(n *yaml.Node, key string) *yaml.Node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}
