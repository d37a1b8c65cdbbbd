package ledger

import (
	"bufio"
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
)

// FactSchema is the JSON Schema (2020-12) of a line of a ledger export.
//
//go:embed fact.schema.json
var FactSchema []byte

// Fact is one thing that happened, and why. Its JSON form is a line of a ledger export; docs/ledger.md describes it.
type Fact struct {
	Seq      int64               `json:"seq"`
	At       time.Time           `json:"at"`
	Workload string              `json:"workload,omitempty"` // empty for what concerns no single berth
	Site     string              `json:"site,omitempty"`
	Rollout  int64               `json:"rollout,omitempty"`
	Kind     berth.Kind          `json:"kind"`
	By       string              `json:"by"`
	Revision declare.Fingerprint `json:"revision,omitempty"`
	Text     string              `json:"text"`
	Data     json.RawMessage     `json:"data,omitempty"` // evidence
}

// Berth is the berth that the fact is about.
func (f Fact) Berth() berth.ID { return berth.ID{Workload: f.Workload, Site: f.Site} }

// Encode writes the fact as one line of JSON, without its end.
func (f Fact) Encode() ([]byte, error) { return json.Marshal(f) }

// DecodeFact reads one line of a ledger export.
func DecodeFact(line []byte) (Fact, error) {
	decoder := json.NewDecoder(bytes.NewReader(line))
	decoder.DisallowUnknownFields()
	var f Fact
	if err := decoder.Decode(&f); err != nil {
		return Fact{}, fmt.Errorf("read a fact: %w", err)
	}
	if decoder.More() {
		return Fact{}, errors.New("read a fact: more than one value on the line")
	}
	switch {
	case f.Seq <= 0:
		return Fact{}, errors.New("read a fact: seq must be a positive number")
	case f.At.IsZero():
		return Fact{}, errors.New("read a fact: at is missing")
	case strings.TrimSpace(string(f.Kind)) == "":
		return Fact{}, errors.New("read a fact: kind is missing")
	}
	return f, nil
}

// WriteFacts writes facts as JSON lines.
func WriteFacts(w io.Writer, facts []Fact) error {
	out := bufio.NewWriter(w)
	for _, f := range facts {
		line, err := f.Encode()
		if err != nil {
			return err
		}
		out.Write(line)
		out.WriteByte('\n')
	}
	return out.Flush()
}
