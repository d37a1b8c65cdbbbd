package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"aditus/internal/core/say"
)

// outputs are the forms that a command's answer is printed in.
var outputs = []string{"table", "wide", "json", "yaml"}

// form is the value of --output.
type form struct {
	cmd    *cobra.Command
	asJSON *bool // it writes JSON
	wide   *bool // its tables leave nothing out; nil where they never do
	text   string
}

// jsonFlag adds --output to a command, and --json, which is --output json.
func jsonFlag(cmd *cobra.Command, asJSON *bool) { outputFlag(cmd, asJSON, nil) }

// outputFlag is jsonFlag for a command that has a wider table too.
func outputFlag(cmd *cobra.Command, asJSON, wide *bool) {
	cmd.Flags().BoolVar(asJSON, "json", false, "as JSON; the same as -o json")
	cmd.Flags().VarP(&form{cmd: cmd, asJSON: asJSON, wide: wide}, "output", "o", "as table, wide, json or yaml (`FORM`); aditus schema has what the last two are made of")
	cmd.RegisterFlagCompletionFunc("output", cobra.FixedCompletions(outputs, cobra.ShellCompDirectiveNoFileComp))
}

// String implements pflag.Value.
func (f *form) String() string { return f.text }

// Type implements pflag.Value.
func (f *form) Type() string { return "form" }

// Set implements pflag.Value.
func (f *form) Set(text string) error {
	if !slices.Contains(outputs, text) {
		return fmt.Errorf("it is one of %s", strings.Join(outputs, ", "))
	}
	f.text, *f.asJSON = text, text == "json" || text == "yaml"
	if f.wide != nil {
		*f.wide = text == "wide"
	}
	if text == "yaml" {
		f.cmd.SetOut(&yamlWriter{out: f.cmd.OutOrStdout()})
	}
	return nil
}

// yamlWriter makes YAML of the JSON that is written to it, a document of each value.
type yamlWriter struct {
	out    io.Writer
	text   []byte // of a value that is not all there yet
	begun  bool
	broken bool // it is something else than JSON, which goes on as it is
}

// Write implements io.Writer.
func (w *yamlWriter) Write(p []byte) (int, error) {
	if w.broken {
		return w.out.Write(p)
	}
	w.text = append(w.text, p...)
	for len(bytes.TrimSpace(w.text)) > 0 {
		d := json.NewDecoder(bytes.NewReader(w.text))
		var one json.RawMessage
		switch err := d.Decode(&one); {
		case err == io.ErrUnexpectedEOF || err == io.EOF:
			return len(p), nil // the rest comes
		case err != nil:
			w.broken = true
			_, err := w.out.Write(w.text)
			return len(p), err
		}
		w.text = w.text[d.InputOffset():]
		text, err := toYAML(one)
		if err != nil {
			return 0, err
		}
		if w.begun {
			text = append([]byte("---\n"), text...)
		}
		w.begun = true
		if _, err := w.out.Write(text); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// toYAML writes a value of JSON as YAML, its fields in their order.
func toYAML(text []byte) ([]byte, error) {
	var node yaml.Node
	if err := yaml.Unmarshal(text, &node); err != nil { // what is JSON is YAML
		return nil, err
	}
	plain(&node)
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(&node); err != nil {
		return nil, err
	}
	err := e.Close()
	if !bytes.ContainsFunc(out.Bytes(), harmful) {
		return out.Bytes(), err
	}
	var safe bytes.Buffer // what is harmful stands within quotes
	for _, r := range out.String() {
		if harmful(r) {
			fmt.Fprintf(&safe, `\U%08x`, r)
		} else {
			safe.WriteRune(r)
		}
	}
	return safe.Bytes(), err
}

// harmful is what does harm on a terminal, but for the ends of lines.
func harmful(r rune) bool { return r != '\n' && say.Harmful(r) }

// plain takes away how JSON is written: braces, and quotes that are not needed.
func plain(n *yaml.Node) {
	if n.Style &^= yaml.FlowStyle; n.Kind == yaml.ScalarNode {
		n.Style &^= yaml.DoubleQuotedStyle
		if strings.ContainsFunc(n.Value, harmful) {
			n.Style = yaml.DoubleQuotedStyle
		}
	} else if len(n.Content) == 0 {
		n.Style |= yaml.FlowStyle
	}
	for _, child := range n.Content {
		plain(child)
	}
}
