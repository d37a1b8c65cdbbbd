package source

import (
	"fmt"
	"path"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Bind seals the secrets of a file of declarations anew that are sealed for no place, each for the one that it stands at, and leaves
// everything else in it as it stands. n is how many that were; recipients are those of Seal.
func Bind(file File, key *Opener, recipients ...string) (text []byte, n int, err error) {
	var document yaml.Node
	if err := yaml.Unmarshal(file.Text, &document); err != nil || len(document.Content) == 0 {
		return file.Text, 0, nil // it is no declaration of ours, or cannot be read as one
	}
	root := document.Content[0]
	workload := path.Base(path.Dir(file.Name)) // a site's file lies in its workload's folder
	if at := child(root, "workload"); at != nil {
		workload = at.Value
	}
	parts := child(root, "parts")
	if parts == nil || parts.Kind != yaml.MappingNode {
		return file.Text, 0, nil
	}
	lines := strings.SplitAfter(string(file.Text), "\n")
	type change struct {
		from, to int // lines
		text     string
	}
	var changes []change
	for i := 0; i+1 < len(parts.Content); i += 2 {
		values := child(parts.Content[i+1], "values")
		if kind := child(parts.Content[i+1], "kind"); values == nil || values.Kind != yaml.MappingNode || kind != nil && kind.Value != "secret" {
			continue
		}
		for k := 0; k+1 < len(values.Content); k += 2 {
			value, place := values.Content[k+1], Place{workload, parts.Content[i].Value, values.Content[k].Value}
			if value.Kind != yaml.ScalarNode || !strings.Contains(value.Value, "BEGIN AGE ENCRYPTED FILE") {
				continue
			}
			opened, err := key.open(value.Value)
			if err != nil {
				return nil, 0, fmt.Errorf("%s:%d: the secret %s: %w", file.Name, value.Line, place, err)
			}
			plain, had := unplaced(opened)
			if had != nil {
				continue
			}
			sealed, err := key.SealFor(place, plain, recipients...)
			if err != nil {
				return nil, 0, err
			}
			if value.Style != yaml.LiteralStyle {
				return nil, 0, fmt.Errorf("%s:%d: the secret %s is not written after |, so that it cannot be changed without harm: write it so, and try again", file.Name, value.Line, place)
			}
			first, count := value.Line, strings.Count(strings.TrimRight(value.Value, "\n"), "\n")+1 // the line after the |
			if first+count > len(lines) {
				return nil, 0, fmt.Errorf("%s:%d: the secret %s is not where the parser says: change it by hand", file.Name, value.Line, place)
			}
			indent := lines[first][:len(lines[first])-len(strings.TrimLeft(lines[first], " "))]
			var out strings.Builder
			for line := range strings.Lines(strings.TrimRight(sealed, "\n")) {
				out.WriteString(indent + strings.TrimRight(line, "\n") + "\n")
			}
			changes = append(changes, change{first, first + count, out.String()})
		}
	}
	for i := len(changes) - 1; i >= 0; i-- { // from the end, so that lines keep their numbers
		c := changes[i]
		lines = append(lines[:c.from:c.from], append([]string{c.text}, lines[c.to:]...)...)
	}
	return []byte(strings.Join(lines, "")), len(changes), nil
}
