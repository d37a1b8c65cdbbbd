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
		at := byteAt(line, value.Column-1)
		length, ok := tokenLength(line[at:], value)
		if !ok {
			return nil, false, fmt.Errorf("the limit of %s is written in a way that cannot be changed without harm, such as %q; change it by hand", guard, strings.TrimSpace(line[at:]))
		}
		lines[value.Line-1] = line[:at] + limit + line[at+length:]
		return []byte(strings.Join(lines, "")), true, nil
	}
	return nil, false, nil
}
