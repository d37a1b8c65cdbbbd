package draw

import (
	"bytes"
	"compress/zlib"
	"encoding/xml"
	"errors"
	"io"
	"math"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"golang.org/x/image/font/sfnt"

	"aditus/internal/core/berth"
	"aditus/internal/core/course"
	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/view/storytest"
)

func drawn(t *testing.T, format Format, w view.Watch) []byte {
	t.Helper()
	var out bytes.Buffer
	if err := Watch(&out, format, Dark, w); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// texts gives the words of an SVG, and fails where it is not well-formed.
func texts(t *testing.T, svg []byte) string {
	t.Helper()
	var words []string
	decoder := xml.NewDecoder(bytes.NewReader(svg))
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return strings.Join(words, "\n")
		}
		if err != nil {
			t.Fatal(err)
		}
		if text, ok := token.(xml.CharData); ok && strings.TrimSpace(string(text)) != "" {
			words = append(words, strings.TrimSpace(string(text)))
		}
	}
}

// TestWatchSVG holds the drawing of the rollout that breached against its golden file, and its words against what the
// screen says.
func TestWatchSVG(t *testing.T) {
	w := storytest.Load(t).Watches["boarding/north"]
	svg := drawn(t, SVG, w)
	storytest.Golden(t, "boarding-north.svg", string(svg))
	words := texts(t, svg)
	for _, want := range []string{"boarding · north", "4.12.2", "4.13.0", "STAGES", "5 %, 1 min", "25 %, 1 min", "back", "TRAFFIC", "INSTANCES", "old 6", "new 1", "slow share", "at most 5 %", "errors", "memory", "EVENTS", "WHY", "WHAT WAS DONE", "breach seen", "VERDICTS AT THE TURN", "NEXT", "breach"} {
		if !strings.Contains(words, want) {
			t.Errorf("%q is not in the drawing", want)
		}
	}
	if !bytes.Contains(svg, []byte("#EE6C5C")) && !bytes.Contains(svg, []byte("rgb(93%")) && !bytes.Contains(bytes.ToLower(svg), []byte("ee6c5c")) {
		t.Error("nothing is drawn in the colour of a breach")
	}
}

var streams = regexp.MustCompile(`(?s)stream\r?\n(.*?)\r?\nendstream`)

// TestWatchPDF reads the words out of the PDF again.
func TestWatchPDF(t *testing.T) {
	w := storytest.Load(t).Watches["boarding/north"]
	names := []string{"Ærøskøbing", "Пристань", "Λιμάνι", "מעגן", "ميناء", "Նավահանգիստ", "港口", "フェリー", "부두", "बंदरगाह", "ท่าเรือ", "துறைமுகம்"}
	w.Line = strings.Join(names, " ")
	pdf := drawn(t, PDF, w)
	if !bytes.HasPrefix(pdf, []byte("%PDF-1.")) || !bytes.Contains(pdf[len(pdf)-32:], []byte("%%EOF")) {
		t.Fatal("it is no PDF")
	}
	var content bytes.Buffer
	for _, stream := range streams.FindAllSubmatch(pdf, -1) {
		if r, err := zlib.NewReader(bytes.NewReader(stream[1])); err == nil {
			io.Copy(&content, r)
		}
	}
	inOrder := func(text string) (all string) {
		for _, r := range runs(text) {
			all += r.text
		}
		return all
	}
	if got := inOrder("pier מעגן 3 aב שלום לך (מזח)"); got != "pier ןגעמ 3 aב (חזמ) ךל םולש" {
		t.Errorf("from left to right it is %q", got)
	}
	for i, name := range names {
		names[i] = inOrder(name)
	}
	for _, want := range append(names, "boarding · north", "WHAT WAS DONE", "slow share") {
		text := []byte{}
		for _, unit := range utf16.Encode([]rune(want)) {
			text = append(text, byte(unit>>8), byte(unit))
		}
		if !bytes.Contains(content.Bytes(), text) {
			t.Errorf("%q is not in the PDF", want)
		}
	}
	for _, font := range []string{"utf8liberation#20sansB", "utf8dejavu#20sans", "utf8droid#20sans#20fallback"} {
		if !bytes.Contains(pdf, []byte(font)) {
			t.Errorf("the font %s is not in the PDF", font)
		}
	}
	for _, name := range names {
		for _, r := range name {
			if of := scriptOf(r); of >= 0 {
				if _, is := scripts[of].font().NominalGlyph(r); !is {
					t.Errorf("%q of %s has no form", r, name)
				}
				continue
			}
			var buffer sfnt.Buffer
			if at, err := faces[faceOf(r)].letters.GlyphIndex(&buffer, r); err != nil || at == 0 {
				t.Errorf("%q of %s has no form", r, name)
			}
		}
	}
}

// TestShape joins, stacks and orders letters as their scripts do: what is told is how many outlines a text becomes, and that they stand from left
// to right.
func TestShape(t *testing.T) {
	for text, want := range map[string]int{
		"لا":     1, // lam and alef are one
		"ميناء":  5,
		"क्ष":    1, // a conjunct
		"कि":     2, // the vowel goes before
		"ที่":    3, // marks above one another
		"කො":     3, // a vowel around its letter
		"ក្ក":    2, // a letter below
		"አዲስ":    3,
		"བོད":    3,
		"தமிழ்":  4,
		"ബോട്ട്": 5,
	} {
		glyphs, width := shape(scriptOf([]rune(text)[0]), text)
		if len(glyphs) != want || width <= 0 {
			t.Errorf("%s is %d outlines, %.2f wide; want %d", text, len(glyphs), width, want)
		}
	}
	alone, _ := shape(scriptOf('م'), "م")
	joined, _ := shape(scriptOf('م'), "ميم")
	if first := joined[len(joined)-1]; reflect.DeepEqual(first.outline, alone[0].outline) {
		t.Error("the first letter of a word is as it is alone")
	}
	before, _ := shape(scriptOf('क'), "कि")
	if vowel, _ := shape(scriptOf('क'), "क"); reflect.DeepEqual(before[0].outline, vowel[0].outline) {
		t.Error("the vowel is not before its letter")
	}
	for _, text := range []string{"pier बंदरगाह 4.12", "ميناء (4)", "aท่าเรือb"} {
		all, sum := "", 0.0
		for _, r := range runs(text) {
			all += r.text
			sum += newSheet(PDF, 10, 10, Light).width(normal, r.text)
		}
		if whole := newSheet(PDF, 10, 10, Light).width(normal, text); len(all) != len(text) || math.Abs(whole-sum) > 0.01 {
			t.Errorf("%q is in runs %q, %.2f and %.2f wide", text, all, whole, sum)
		}
	}
}

// TestEveryState draws every rollout of the story, and one with nothing in it, in both formats.
func TestEveryState(t *testing.T) {
	watches := storytest.Load(t).Watches
	if len(watches) < 5 {
		t.Fatalf("only %d rollouts", len(watches))
	}
	empty := watches["fares/slipway"]
	empty.Lanes, empty.Traffic, empty.Old, empty.New, empty.Events, empty.Stages, empty.Verdicts, empty.From = nil, nil, nil, nil, nil, nil, nil, nil
	watches["empty"] = empty
	hostile := watches["boarding/north"]
	hostile.Events = append([]view.Event{{At: hostile.Start, Kind: "bad\x1b[31m", Text: "a\x07b <script>&" + strings.Repeat("long ", 100)}}, hostile.Events...)
	watches["hostile"] = hostile
	for name, w := range watches {
		svg := drawn(t, SVG, w)
		if words := texts(t, svg); strings.ContainsAny(words, "\x1b\x07") {
			t.Errorf("%s carries control characters", name)
		}
		drawn(t, PDF, w)
	}
}

func TestFormatOf(t *testing.T) {
	for name, want := range map[string]Format{"a.svg": SVG, "b.PDF": PDF} {
		if got, err := FormatOf(name); got != want || err != nil {
			t.Errorf("%s is %s (%v)", name, got, err)
		}
	}
	if _, err := FormatOf("a.png"); err == nil || !strings.Contains(err.Error(), ".svg nor .pdf") {
		t.Errorf("a.png: %v", err)
	}
}

// TestAnatomy holds the drawing of what a berth is made of against its golden file, and sees that the PDF is one.
func TestAnatomy(t *testing.T) {
	s := storytest.Load(t).Snapshot
	b, ok := s.Find(berth.ID{Workload: "fares", Site: "slipway"})
	if !ok {
		t.Fatal("the berth is not in the story")
	}
	var svg, pdf bytes.Buffer
	if err := errors.Join(Anatomy(&svg, SVG, Dark, b, nil, s.Now), Anatomy(&pdf, PDF, Light, b, nil, s.Now)); err != nil {
		t.Fatal(err)
	}
	storytest.Golden(t, "anatomy-fares-slipway.svg", svg.String())
	words := texts(t, svg.Bytes())
	for _, want := range []string{"fares · slipway", "stage 2 of 4, waiting for a sign-off", "new", "old", "engine", "service", "tables", "ran to its end", "10 GiB", "25 % of the traffic, 1 of 1 healthy"} {
		if !strings.Contains(words, want) {
			t.Errorf("%q is not in the drawing", want)
		}
	}
	if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) {
		t.Errorf("the PDF begins %.10q", pdf.Bytes())
	}
}

// TestBench sees that the drawing of a bench says what the screen says, as SVG and as PDF, in both palettes.
func TestBench(t *testing.T) {
	b := storytest.Load(t).Benches["boarding/north slow share"]
	for _, palette := range []Palette{Dark, Light} {
		var svg, pdf bytes.Buffer
		if err := errors.Join(Bench(&svg, SVG, palette, b, 0.033), Bench(&pdf, PDF, palette, b, 0.033)); err != nil {
			t.Fatal(err)
		}
		words := texts(t, svg.Bytes())
		for _, want := range append(b.Words(), "boarding · north", "slow share", "at most 3.3 %", "4.12.2", "proven", "rolled back", "stopped at") {
			if !strings.Contains(words, want) {
				t.Errorf("%q is not in the drawing", want)
			}
		}
		if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-1.")) {
			t.Error("it is no PDF")
		}
	}
}

// TestCalendar draws two weeks of the line, in both formats.
func TestCalendar(t *testing.T) {
	cal := view.NewCalendar(storytest.Load(t).Calendar, view.TwoWeeks, time.UTC)
	var svg, pdf bytes.Buffer
	if err := errors.Join(Calendar(&svg, SVG, Light, cal), Calendar(&pdf, PDF, Dark, cal)); err != nil {
		t.Fatal(err)
	}
	words := texts(t, svg.Bytes())
	for _, want := range []string{"12 March to 25 March 2026", "Mon 16", "harbour festival", "isles", "fewer gates by night", "notices 2.7.9 is offered to islanders", "piers at isles is torn down"} {
		if !strings.Contains(words, want) {
			t.Errorf("%q is not in the drawing", want)
		}
	}
	if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-1.")) {
		t.Error("it is no PDF")
	}
}

// TestCourse draws a way through sites in every state that there is, and spreads of many and of none.
func TestCourse(t *testing.T) {
	at := time.Date(2026, 12, 4, 9, 0, 0, 0, time.UTC)
	c := status.Course{Workload: "fares", Version: "8.2.0", Course: "line", On: true, Legs: []course.Leg{
		{Site: "drydock", Step: 1, Proven: at}, {Site: "slipway", Step: 2, After: []string{"drydock"}, Rolling: true, Begins: at},
		{Site: "north", Step: 3, After: []string{"slipway"}, Begins: at, Waits: "waits until slipway has proven it", Asks: []string{"waits for a sign-off by leads"}},
		{Site: "south", Step: 3, After: []string{"slipway"}, Never: true, Waits: "the window by day does not open any more"},
		{Site: "isles", Step: 5, After: []string{"north", "south", "nowhere"}, Any: true, ByHand: true},
	}}
	var svg, pdf bytes.Buffer
	empty := Course(io.Discard, PDF, Light, status.Course{Workload: "fares"}, time.UTC)
	if err := errors.Join(Course(&svg, SVG, Dark, c, time.UTC), Course(&pdf, PDF, Light, c, time.UTC), empty); err != nil {
		t.Fatal(err)
	}
	words := texts(t, svg.Bytes())
	for _, want := range []string{"fares 8.2.0", "on the course line", "proven Fri 4 Dec 09:00", "under way", "begins Fri 4 Dec 09:00", "waits for a sign-off by leads", "never", "by hand"} {
		if !strings.Contains(words, want) {
			t.Errorf("%q is not in the drawing", want)
		}
	}
	s := storytest.Load(t).Snapshot
	svg.Reset()
	if err := errors.Join(Spread(&svg, SVG, Dark, view.NewSpread(s, "boarding")), Spread(io.Discard, PDF, Light, view.NewSpread(s, "nobody"))); err != nil || !strings.Contains(texts(t, svg.Bytes()), "4.12.2") {
		t.Errorf("the spread: %v", err)
	}
	svg.Reset()
	r := view.Report{Line: "Skerry Line", Months: []view.ReportMonth{{Month: "2026-03", Workloads: []view.ReportLine{{Workload: "boarding", Releases: 12, Proven: 11, Back: 1, Typical: 4 * time.Minute, Why: []view.ReportWhy{{Reason: "slow share", Times: 1}}}}}}}
	if err := errors.Join(Report(&svg, SVG, Dark, r, time.UTC), Report(io.Discard, PDF, Light, view.Report{}, time.UTC)); err != nil {
		t.Errorf("the report: %v", err)
	}
	for _, want := range []string{"March 2026", "boarding", "12", "4 min", "1 slow share"} {
		if !strings.Contains(texts(t, svg.Bytes()), want) {
			t.Errorf("%q is not in the report", want)
		}
	}
}
