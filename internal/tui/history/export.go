package history

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/draw"
	"aditus/internal/ledger"
	"aditus/internal/view"
)

// columnsOfCSV are those of what is exported as CSV (RFC 4180), as a fact's keys are in JSON.
var columnsOfCSV = []string{"seq", "at", "workload", "site", "rollout", "kind", "by", "revision", "text"}

// export writes the facts that are selected as JSON lines and as CSV, oldest first, and a report of the releases that they tell of.
func (m *Model) export(string) tea.Cmd {
	var selected []ledger.Fact
	for _, f := range m.facts {
		if m.refine.Has(f) {
			selected = append(selected, f)
		}
	}
	line := m.snapshot.Line
	name := filepath.Join(m.desk.Pictures, "ledger-"+m.snapshot.Now.Format("20060102-150405"))
	return m.desk.Answer(func(context.Context) (string, error) {
		lines, table, err := encode(selected)
		if err == nil {
			err = os.WriteFile(name+".jsonl", lines, 0o600)
		}
		if err == nil {
			err = os.WriteFile(name+".csv", table, 0o600)
		}
		paint := draw.OfReport(view.NewReport(line, selected, time.Local), time.Local)
		for _, format := range []draw.Format{draw.SVG, draw.PDF} {
			err = errors.Join(err, draw.Write(name+"."+string(format), format, draw.Light, paint))
		}
		return strconv.Itoa(len(selected)) + " facts are written: " + name + ".jsonl and .csv, and a report of their releases: .svg and .pdf", err
	})
}

// inert is a text that a spreadsheet takes for no formula: much of it comes from elsewhere.
func inert(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

// encode gives facts as JSON lines and as CSV.
func encode(facts []ledger.Fact) (lines, table []byte, err error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.Write(columnsOfCSV)
	for _, f := range facts {
		line, err := f.Encode()
		if err != nil {
			return nil, nil, err
		}
		lines = append(append(lines, line...), '\n')
		w.Write([]string{strconv.FormatInt(f.Seq, 10), f.At.UTC().Format(time.RFC3339Nano), f.Workload, f.Site, strconv.FormatInt(f.Rollout, 10), string(f.Kind), f.By, string(f.Revision), inert(f.Text)})
	}
	w.Flush()
	return lines, out.Bytes(), w.Error()
}
