package scrape

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/common/model"
	"github.com/prometheus/prometheus/model/labels"
	"github.com/prometheus/prometheus/model/textparse"

	"aditus/internal/core/signal"
)

// ErrNoMetrics means that what was fetched is no metrics page.
var ErrNoMetrics = errors.New("the page is no metrics page")

// The formats of a page: OpenMetrics text, the older text that it grew from, and protobuf, which alone has histograms without declared buckets.
// What a page is its media type says, and its end.
const (
	openMetrics = "application/openmetrics-text"
	protobuf    = "application/vnd.google.protobuf"
	Accepts     = protobuf + ";proto=io.prometheus.client.MetricFamily;encoding=delimited;escaping=allow-utf-8;q=0.7," + openMetrics + ";version=1.0.0;escaping=allow-utf-8;q=0.6," +
		openMetrics + ";version=0.0.1;q=0.5,text/plain;version=1.0.0;escaping=allow-utf-8;q=0.4,text/plain;version=0.0.4;q=0.3,*/*;q=0.1"
)

// endMark ends OpenMetrics text, so that a page that broke off is known for that.
const endMark = "# EOF"

// ReadMetrics reads a metrics page in text.
func ReadMetrics(r io.Reader) (signal.Page, error) {
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	return Read(text, "", time.Time{})
}

// Read reads a metrics page of a media type. A family that cannot be read is lost with a reason, and the others are kept; so is what
// the page itself says was measured before a moment.
func Read(page []byte, mediaType string, since time.Time) (signal.Page, error) {
	kind, _, _ := mime.ParseMediaType(mediaType) // what is no media type is taken for text
	r := reading{page: signal.Page{}, since: since}
	ended := bytes.HasSuffix(bytes.TrimRight(page, "\r\n"), []byte("\n"+endMark)) || string(bytes.TrimRight(page, "\r\n")) == endMark
	switch {
	case kind == protobuf:
		if err := r.families(page); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrNoMetrics, err)
		}
	case kind == openMetrics && !ended:
		return nil, fmt.Errorf("%w: it breaks off, as it does not end with %s", ErrNoMetrics, endMark)
	default:
		r.text(page, ended)
	}
	if len(r.page) == 0 {
		if r.lost != nil {
			return nil, fmt.Errorf("%w: %w", ErrNoMetrics, r.lost)
		}
		return nil, fmt.Errorf("%w: it holds no sample", ErrNoMetrics)
	}
	for name, why := range r.without {
		r.page.Lose(name, why)
	}
	return r.page, nil
}

// reading is a page as it is read.
type reading struct {
	page    signal.Page
	since   time.Time         // what was measured before it is too old; zero for nothing
	lost    error             // the first family that cannot be read
	without map[string]string // families that cannot be read, and why
}

// lose notes that a family cannot be read.
func (r *reading) lose(family string, err error) {
	if r.lost == nil {
		r.lost = err
	}
	if r.without == nil {
		r.without = map[string]string{}
	}
	if len(r.without) < mostLost && family != "" {
		r.without[family] = err.Error()
	}
}

// mostLost is how many families are told of that cannot be read.
const mostLost = 100

// add adds a sample, unless it is no number.
func (r *reading) add(name string, labels map[string]string, value float64) {
	if !math.IsNaN(value) {
		r.page[name] = append(r.page[name], signal.NewSample(labels, value))
	}
}

// stale tells whether something was measured too long ago, in milliseconds since 1970, and notes it. What says nothing of that was measured now.
func (r *reading) stale(family string, at *int64) bool {
	if at == nil || r.since.IsZero() || !time.UnixMilli(*at).Before(r.since) {
		return false
	}
	r.lose(family, fmt.Errorf("it was measured at %s, and not since", time.UnixMilli(*at).UTC().Format(time.TimeOnly)))
	return true
}

// text reads a page in text, family by family.
func (r *reading) text(page []byte, open bool) {
	symbols := labels.NewSymbolTable()
	for family, block := range blocks(page) {
		var parser textparse.Parser
		if open {
			parser = textparse.NewOpenMetricsParser(append(block, endMark...), symbols)
		} else {
			parser = textparse.NewPromParser(block, symbols, false)
		}
		if err := r.block(family, parser); err != nil {
			r.lose(family, err)
		}
	}
}

// block reads a family of a text. Of one that cannot be read nothing is taken.
func (r *reading) block(family string, parser textparse.Parser) error {
	type sample struct {
		name   string
		labels map[string]string
		value  float64
	}
	var all []sample
	for {
		entry, err := parser.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("%s cannot be read: %s", nameOr(family), explained(err))
		}
		if entry != textparse.EntrySeries {
			continue
		}
		_, at, value := parser.Series()
		if r.stale(family, at) {
			continue
		}
		var found labels.Labels
		parser.Labels(&found)
		one := sample{value: value, labels: make(map[string]string, found.Len())}
		found.Range(func(l labels.Label) {
			if l.Name == model.MetricNameLabel {
				one.name = strings.Clone(l.Value)
				return
			}
			one.labels[l.Name] = l.Value
		})
		all = append(all, one)
	}
	for _, one := range all {
		r.add(one.name, one.labels, one.value)
	}
	return nil
}

func nameOr(family string) string {
	if family == "" {
		return "what stands first"
	}
	return family
}

// explained is why a parser does not take a text, without the text itself, which may be long.
func explained(err error) string {
	text := err.Error()
	if at := strings.Index(text, " while parsing"); at >= 0 {
		text = text[:at]
	}
	return text
}

// blocks parts a text into its families, each with the name that it is of: what is wrong in one does not spoil the others. Label values hold
// no line as it is.
func blocks(page []byte) func(yield func(family string, block []byte) bool) {
	return func(yield func(string, []byte) bool) {
		var block []byte
		family := ""
		for line := range bytes.Lines(page) {
			trimmed := bytes.TrimSpace(line)
			if len(trimmed) == 0 || string(trimmed) == endMark {
				continue
			}
			name, describes := described(trimmed)
			if !describes && trimmed[0] != '#' {
				name = sampled(trimmed)
			}
			switch {
			case name == "" || name == family || !describes && partOf(name, family):
			default:
				if len(block) > 0 && !yield(family, block) {
					return
				}
				family, block = name, nil
			}
			block = append(append(block, trimmed...), '\n')
		}
		if len(block) > 0 {
			yield(family, block)
		}
	}
}

// described is the family that a line describes; describes is false where it describes none.
func described(line []byte) (family string, describes bool) {
	for _, word := range []string{"# TYPE ", "# HELP ", "# UNIT "} {
		if rest, is := bytes.CutPrefix(line, []byte(word)); is {
			return firstName(rest), true
		}
	}
	return "", false
}

// sampled is the name of a sample's metric.
func sampled(line []byte) string {
	if rest, is := bytes.CutPrefix(line, []byte("{")); is {
		return firstName(bytes.TrimLeft(rest, " "))
	}
	return firstName(line)
}

// firstName is the name that a text begins with, quoted where it holds other characters than names did before.
func firstName(text []byte) string {
	if len(text) > 0 && text[0] == '"' {
		for i := 1; i < len(text); i++ {
			switch text[i] {
			case '\\':
				i++
			case '"':
				return strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\n`, "\n").Replace(string(text[1:i]))
			}
		}
		return ""
	}
	if end := bytes.IndexAny(text, " \t{"); end >= 0 {
		text = text[:end]
	}
	return string(text)
}

// suffixes are what names of samples have behind that of their family.
var suffixes = []string{"_total", "_created", "_bucket", "_sum", "_count", "_gsum", "_gcount", "_info"}

// partOf tells whether a sample is of a family.
func partOf(name, family string) bool {
	rest, is := strings.CutPrefix(name, family)
	if !is || family == "" {
		return false
	}
	for _, suffix := range suffixes {
		if rest == suffix {
			return true
		}
	}
	return rest == ""
}

func number(value float64) string {
	if math.IsInf(value, 1) {
		return "+Inf"
	}
	return strconv.FormatFloat(value, 'g', -1, 64)
}
