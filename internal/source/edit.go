package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// errNotEdited means that a text cannot be changed without changing more than was asked for.
var errNotEdited = errors.New("it cannot be written there without changing more; change it by hand")

// setField writes a value into one document of a text of YAML, at a path of keys, and of numbers of items that there are, and leaves everything else as it stands, comments and
// layout too. nil takes the field out. Where the layout leaves no way to do that the document is written anew. What comes out is held
// against what is meant before it is given.
func setField(text []byte, document int, path []string, value any) ([]byte, error) {
	nodes, values, err := documents(text)
	if err != nil {
		return nil, err
	}
	if len(nodes) == 0 && document == 0 { // an empty file
		nodes, values = []*yaml.Node{nil}, []any{nil}
	}
	if document >= len(nodes) {
		return nil, fmt.Errorf("there is no document %d", document+1)
	}
	if values[document], err = with(values[document], path, plainly(value)); err != nil {
		return nil, err
	}
	meant := func(text []byte) bool {
		_, is, err := documents(text)
		return err == nil && reflect.DeepEqual(is, values)
	}
	if edited, ok := splice(text, nodes[document], path, value); ok && meant(edited) {
		return edited, nil
	}
	edited, err := anew(text, document, path, value)
	if err != nil {
		return nil, err
	}
	if !meant(edited) {
		return nil, errNotEdited
	}
	return edited, nil
}

// documents are the documents of a text, as they are written and as they are meant.
func documents(text []byte) (nodes []*yaml.Node, values []any, err error) {
	for d := yaml.NewDecoder(bytes.NewReader(text)); ; {
		var n yaml.Node
		switch err := d.Decode(&n); {
		case errors.Is(err, io.EOF):
			return nodes, values, nil
		case err != nil:
			return nil, nil, fmt.Errorf("it cannot be read: %w", err)
		}
		var v any
		if err := n.Decode(&v); err != nil {
			return nil, nil, fmt.Errorf("it cannot be read: %w", err)
		}
		if len(n.Content) == 0 {
			n.Content = []*yaml.Node{nil}
		}
		nodes, values = append(nodes, n.Content[0]), append(values, v)
	}
}

// plainly is a value as it is read from a text: whole numbers are whole.
func plainly(value any) any {
	text, err := yaml.Marshal(wholes(value))
	var plain any
	if err == nil {
		err = yaml.Unmarshal(text, &plain)
	}
	if err != nil {
		return value
	}
	return plain
}

// wholes writes numbers that JSON read as floats as whole ones, where they are.
func wholes(value any) any {
	switch v := value.(type) {
	case float64:
		if v == float64(int64(v)) {
			return int64(v)
		}
	case map[string]any:
		out := make(map[string]any, len(v))
		for key, one := range v {
			out[key] = wholes(one)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, one := range v {
			out[i] = wholes(one)
		}
		return out
	}
	return value
}

// with gives a tree with a value at a path, or without what is there.
func with(tree any, path []string, value any) (any, error) {
	if len(path) == 0 {
		return value, nil
	}
	if list, is := tree.([]any); is {
		at, err := strconv.Atoi(path[0])
		if err != nil || at < 0 || at >= len(list) || value == nil && len(path) == 1 {
			return nil, fmt.Errorf("there is no item %s to be changed", path[0])
		}
		list[at], err = with(list[at], path[1:], value)
		return list, err
	}
	m, is := tree.(map[string]any)
	if !is {
		if tree != nil {
			return nil, fmt.Errorf("%s is in something that has no fields", path[0])
		}
		m = map[string]any{}
	}
	below, err := with(m[path[0]], path[1:], value)
	if err != nil {
		return nil, err
	}
	if below == nil && len(path) == 1 {
		delete(m, path[0])
	} else {
		m[path[0]] = below
	}
	return m, nil
}

// splice changes the lines that have the value, or adds some; ok is false where it finds no way.
func splice(text []byte, node *yaml.Node, path []string, value any) (edited []byte, ok bool) {
	if strings.ContainsAny(strings.ReplaceAll(string(text), "\r\n", "\n"), "\r\u0085\u2028\u2029\ufeff") {
		return nil, false // its lines are told otherwise than they are counted here
	}
	lines := strings.SplitAfter(string(text), "\n")
	if last := len(lines) - 1; lines[last] == "" {
		lines = lines[:last]
	} else {
		lines[last] += "\n"
	}
	join := func(lines ...[]string) ([]byte, bool) {
		var out strings.Builder
		for _, some := range lines {
			for _, line := range some {
				out.WriteString(line)
			}
		}
		return []byte(out.String()), true
	}
	if node == nil || node.Kind != yaml.MappingNode {
		added, ok := asLines(path, value, 0)
		if !ok || node != nil {
			return nil, false
		}
		return join(lines, added)
	}
	parent, last := node, (*yaml.Node)(nil)
	for depth, name := range path {
		if parent.Line < 1 || parent.Line > len(lines) {
			return nil, false
		}
		key, found := keyOf(parent, name)
		if parent.Kind == yaml.SequenceNode {
			at, err := strconv.Atoi(name)
			if err != nil || at < 0 || at >= len(parent.Content) {
				return nil, false
			}
			found = parent.Content[at]
			key = found // a scalar among items is on its own line, or within brackets
		}
		if found == nil { // from here on it is new
			if value == nil || parent.Style&yaml.FlowStyle != 0 || len(parent.Content) == 0 {
				return nil, false
			}
			indent := parent.Content[0].Column - 1
			added, ok := asLines(path[depth:], value, indent)
			if !ok {
				return nil, false
			}
			before := parent.Content[len(parent.Content)-2]
			if before.Line > len(lines) {
				return nil, false
			}
			end := endOf(lines, before)
			return join(lines[:end], added, lines[end:])
		}
		if last, parent = key, found; key.Line < 1 || key.Line > len(lines) || found.Line > len(lines) {
			return nil, false
		}
		if depth < len(path)-1 && parent.Kind != yaml.MappingNode && parent.Kind != yaml.SequenceNode {
			return nil, false
		}
	}
	flow := parent.Kind != yaml.ScalarNode && parent.Style&yaml.FlowStyle != 0 && parent.Anchor == "" && parent.Line == last.Line && value != nil
	scalar := parent.Kind == yaml.ScalarNode && parent.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 && parent.Anchor == "" && parent.Line == last.Line
	new, one := inline(value)
	if flow {
		new, one = inFlow(value)
	}
	switch {
	case value == nil:
		if lines[last.Line-1][:min(last.Column-1, len(lines[last.Line-1]))] != strings.Repeat(" ", last.Column-1) {
			return nil, false // it shares its line
		}
		return join(lines[:last.Line-1], lines[endOf(lines, last):])
	case (scalar || flow) && one:
		line := lines[parent.Line-1]
		at := byteAt(line, parent.Column-1)
		length, ok := tokenLength(line[at:], parent)
		if !ok {
			return nil, false
		}
		lines[parent.Line-1] = line[:at] + new + line[at+length:]
		return join(lines)
	case last == parent: // an item that is no scalar
		return nil, false
	default:
		line := lines[last.Line-1]
		if strings.TrimSpace(line[:byteAt(line, last.Column-1)]) != "" {
			return nil, false
		}
		added, ok := asLines(path[len(path)-1:], value, last.Column-1)
		if !ok {
			return nil, false
		}
		return join(lines[:last.Line-1], added, lines[endOf(lines, last):])
	}
}

// byteAt is where a rune of a line begins.
func byteAt(line string, runes int) int {
	at := 0
	for range runes {
		_, size := utf8.DecodeRuneInString(line[at:])
		at += size
	}
	return at
}

// keyOf finds a key of a mapping, and its value; nil for none.
func keyOf(mapping *yaml.Node, name string) (key, value *yaml.Node) {
	if mapping == nil || mapping.Kind != yaml.MappingNode {
		return nil, nil
	}
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == name {
			return mapping.Content[i], mapping.Content[i+1]
		}
	}
	return nil, nil
}

// child is the value of a key in a mapping; nil where there is none.
func child(mapping *yaml.Node, name string) *yaml.Node {
	_, value := keyOf(mapping, name)
	return value
}

// endOf is the line after the last one of a key's value.
func endOf(lines []string, key *yaml.Node) int {
	end := key.Line
	for n := key.Line; n < len(lines); n++ {
		text := strings.TrimRight(lines[n], " \t\r\n")
		inner := strings.TrimLeft(text, " ")
		indent := len(text) - len(inner)
		switch {
		case inner == "" || strings.HasPrefix(inner, "#"):
			continue // it belongs to what comes after it, if that is deeper
		case indent > key.Column-1, indent == key.Column-1 && (inner == "-" || strings.HasPrefix(inner, "- ")):
			end = n + 1
		default:
			return end
		}
	}
	return end
}

// inline is how a value is written within a line, where it can be.
func inline(value any) (text string, ok bool) {
	switch value.(type) {
	case map[string]any, []any:
		return "", false
	}
	out, err := yaml.Marshal(wholes(value))
	text = strings.TrimSuffix(string(out), "\n")
	return text, err == nil && !strings.Contains(text, "\n")
}

// inFlow is how a value is written within a line, with brackets and braces.
func inFlow(value any) (text string, ok bool) {
	var n yaml.Node
	if err := n.Encode(wholes(value)); err != nil {
		return "", false
	}
	n.Style |= yaml.FlowStyle
	out, err := yaml.Marshal(&n)
	text = strings.TrimSuffix(string(out), "\n")
	return text, err == nil && !strings.Contains(text, "\n")
}

// bracketLength is how long brackets or braces stand in their line, with all that is in them.
func bracketLength(rest string) (int, bool) {
	depth, quote := 0, byte(0)
	for i := 0; i < len(rest); i++ {
		switch c := rest[i]; {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'' && (i == 0 || strings.ContainsRune("[{,: ", rune(rest[i-1]))):
			quote = c
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			if depth--; depth == 0 {
				return i + 1, true
			}
		}
	}
	return 0, false // it goes on in the next line
}

// tokenLength is how long a value stands in its line.
func tokenLength(rest string, n *yaml.Node) (int, bool) {
	if n.Kind != yaml.ScalarNode {
		return bracketLength(rest)
	}
	switch n.Style &^ yaml.TaggedStyle {
	case yaml.DoubleQuotedStyle:
		for i := 1; i < len(rest); i++ {
			switch rest[i] {
			case '\\':
				i++
			case '"':
				return i + 1, true
			}
		}
		return 0, false
	case yaml.SingleQuotedStyle:
		for i := 1; i < len(rest); i++ {
			if rest[i] == '\'' {
				if i+1 < len(rest) && rest[i+1] == '\'' {
					i++
					continue
				}
				return i + 1, true
			}
		}
		return 0, false
	}
	return len(n.Value), n.Value != "" && strings.HasPrefix(rest, n.Value)
}

// asLines is a path of keys with a value below it, as lines.
func asLines(path []string, value any, indent int) ([]string, bool) {
	tree := wholes(value)
	for i := len(path) - 1; i >= 0; i-- {
		tree = map[string]any{path[i]: tree}
	}
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(tree); err != nil || e.Close() != nil {
		return nil, false
	}
	var lines []string
	for line := range strings.Lines(out.String()) {
		if strings.TrimSpace(line) != "" {
			line = strings.Repeat(" ", indent) + line
		}
		lines = append(lines, line)
	}
	return lines, true
}

// anew writes all documents anew, one of them with the value; comments stay.
func anew(text []byte, document int, path []string, value any) ([]byte, error) {
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	d := yaml.NewDecoder(bytes.NewReader(text))
	for n := 0; ; n++ {
		var node yaml.Node
		err := d.Decode(&node)
		if errors.Is(err, io.EOF) && (n > 0 || document > 0) {
			return out.Bytes(), e.Close()
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		if len(node.Content) == 0 {
			node = yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{{Kind: yaml.MappingNode}}}
		}
		if n == document {
			if err := put(node.Content[0], path, value); err != nil {
				return nil, err
			}
		}
		if err := e.Encode(&node); err != nil {
			return nil, err
		}
	}
}

// put puts a value into a mapping.
func put(mapping *yaml.Node, path []string, value any) error {
	if mapping.Kind == yaml.SequenceNode && len(path) > 1 {
		if at, err := strconv.Atoi(path[0]); err == nil && at >= 0 && at < len(mapping.Content) {
			return put(mapping.Content[at], path[1:], value)
		}
	}
	if mapping.Kind != yaml.MappingNode {
		return errNotEdited
	}
	key, found := keyOf(mapping, path[0])
	if len(path) > 1 {
		if found == nil || found.Kind == yaml.ScalarNode && found.Tag == "!!null" {
			below := &yaml.Node{Kind: yaml.MappingNode}
			if found != nil {
				*found = *below
				below = found
			} else {
				mapping.Content = append(mapping.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: path[0]}, below)
			}
			return put(below, path[1:], value)
		}
		return put(found, path[1:], value)
	}
	if value == nil {
		for i := 0; i+1 < len(mapping.Content); i += 2 {
			if mapping.Content[i] == key {
				mapping.Content = append(mapping.Content[:i:i], mapping.Content[i+2:]...)
				break
			}
		}
		return nil
	}
	var node yaml.Node
	if err := node.Encode(wholes(value)); err != nil {
		return err
	}
	if found != nil {
		node.LineComment, node.Style = found.LineComment, node.Style|found.Style&yaml.FlowStyle
		*found = node
		return nil
	}
	mapping.Content = append(mapping.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: path[0]}, &node)
	return nil
}
