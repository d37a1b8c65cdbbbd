package source

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"aditus/internal/core/declare"
)

// Limits on one file, far above what a declaration needs and far below what could hurt.
const (
	maxFileSize = 4 << 20
	maxNodes    = 500_000
)

// ReadYAML parses one YAML document into nodes with their places. What is wrong with it comes as declare.Problems.
func ReadYAML(file string, text []byte) (declare.Node, error) {
	documents, err := ReadDocuments(file, text)
	switch {
	case err != nil:
		return declare.Node{}, err
	case len(documents) == 0:
		return declare.Node{}, declare.Problems{{File: file, Line: 1, Column: 1, Message: "the file is empty", Suggestion: "start with aditus: 1"}}
	case len(documents) > 1:
		return declare.Node{}, declare.Problems{{File: file, Line: documents[0].Line, Column: 1, Message: "the file holds more than one YAML document", Suggestion: "keep one workload in one file"}}
	}
	root := documents[0]
	root.Entries = slices.DeleteFunc(root.Entries, func(e declare.Entry) bool { return e.Key.Text == editors && e.Value.Kind == declare.Text })
	return root, nil
}

// editors is the key by which a file tells editors where its schema is. It says nothing to us.
const editors = "$schema"

// ReadDocuments parses all YAML documents of a file into nodes with their places. What is wrong with it comes as
// declare.Problems.
func ReadDocuments(file string, text []byte) (documents []declare.Node, err error) {
	if len(text) > maxFileSize {
		return nil, declare.Problems{{File: file, Line: 1, Column: 1, Message: fmt.Sprintf("the file has %d bytes; %d are accepted", len(text), maxFileSize), Suggestion: "split the workload into several"}}
	}
	decoder := yaml.NewDecoder(strings.NewReader(string(text)))
	c := converter{file: file}
	for {
		var document yaml.Node
		if err := decoder.Decode(&document); errors.Is(err, io.EOF) {
			return documents, nil
		} else if err != nil {
			return nil, declare.Problems{syntaxProblem(file, text, err)}
		}
		node := c.node(&document, 0)
		if len(c.problems) > 0 {
			return append(documents, node), c.problems
		}
		if node.Kind != declare.Null {
			documents = append(documents, node)
		}
	}
}

var (
	linePattern   = regexp.MustCompile(`(?i)line (\d+)`)
	columnPattern = regexp.MustCompile(`(?i)column (\d+)`)
	prefixPattern = regexp.MustCompile(`(?i)^(go-)?yaml:?( (scanner|parser|construct|load) error)?:?\s*`)
	barePattern   = regexp.MustCompile(`[{\[](?:[^"'#]|"[^"]*"|'[^']*')*[:,\[{]\s*\$\{`)
	placePattern  = regexp.MustCompile(`(?i)\b(at |in |while )?line \d+(, ?column \d+)?:?\s*`)
)

// syntaxProblem finds the place in the parser's message, since the parser gives it nowhere else.
func syntaxProblem(file string, content []byte, err error) declare.Problem {
	text := err.Error()
	at := func(pattern *regexp.Regexp) int {
		if match := pattern.FindStringSubmatch(text); match != nil {
			n, _ := strconv.Atoi(match[1])
			return max(1, n)
		}
		return 1
	}
	message := strings.TrimSpace(placePattern.ReplaceAllString(prefixPattern.ReplaceAllString(text, ""), ""))
	message = strings.Join(strings.Fields(message), " ")
	p := declare.Problem{File: file, Line: at(linePattern), Column: at(columnPattern), Message: "not valid YAML: " + message, Suggestion: "check indentation and quotation marks on this line and the one before"}
	lines := strings.Split(string(content), "\n")
	for n := min(p.Line, len(lines)); n > 0 && n > p.Line-2; n-- {
		if at := barePattern.FindStringIndex(lines[n-1]); at != nil {
			p.Line, p.Column, p.Suggestion = n, at[1]-1, "within braces and brackets quote what has ${…} in it, such as \"${tide}\""
		}
	}
	return p
}

type converter struct {
	file     string
	nodes    int
	problems declare.Problems
}

const maxDepth = 64

func (c *converter) wrong(at *yaml.Node, suggestion, format string, args ...any) declare.Node {
	c.problems = append(c.problems, declare.Problem{File: c.file, Line: at.Line, Column: at.Column, Message: fmt.Sprintf(format, args...), Suggestion: suggestion})
	return declare.Node{File: c.file, Line: at.Line, Column: at.Column}
}

func (c *converter) node(y *yaml.Node, depth int) declare.Node {
	c.nodes++
	if c.nodes > maxNodes || depth > maxDepth {
		if len(c.problems) > 0 {
			return declare.Node{}
		}
		return c.wrong(y, "write it out with fewer aliases", "the document grows beyond what is accepted")
	}
	n := declare.Node{File: c.file, Line: y.Line, Column: y.Column}
	switch y.Kind {
	case yaml.DocumentNode:
		if len(y.Content) > 0 {
			return c.node(y.Content[0], depth)
		}
	case yaml.AliasNode:
		return c.node(y.Alias, depth+1)
	case yaml.SequenceNode:
		n.Kind = declare.List
		for _, item := range y.Content {
			n.Items = append(n.Items, c.node(item, depth+1))
		}
	case yaml.MappingNode:
		n.Kind = declare.Map
		lines := map[string]int{}
		for i := 0; i+1 < len(y.Content); i += 2 {
			key := y.Content[i]
			if key.Kind != yaml.ScalarNode {
				c.wrong(key, "", "a key must be text")
				continue
			}
			if line, twice := lines[key.Value]; twice {
				c.wrong(key, "remove one of them", "the key %q stands here twice, first on line %d", key.Value, line)
				continue
			}
			lines[key.Value] = key.Line
			n.Entries = append(n.Entries, declare.Entry{Key: c.node(key, depth+1), Value: c.node(y.Content[i+1], depth+1)})
		}
	case yaml.ScalarNode:
		n.Text = y.Value
		switch y.ShortTag() {
		case "!!null":
			n.Kind = declare.Null
		case "!!int", "!!float":
			n.Kind = declare.Number
		case "!!bool":
			n.Kind = declare.Bool
		default:
			n.Kind = declare.Text
		}
	}
	return n
}
