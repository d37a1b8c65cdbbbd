package berth

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"aditus/internal/core/course"
	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
)

var refresh = flag.Bool("refresh", false, "write the golden files anew")

// TestStories plays the stories of testdata: each line that is not indented says what happens, and below it stands what
// the berth decides because of it. They are there to be read; -refresh writes what is decided anew.
func TestStories(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatal("there are no stories", err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			told, err := tell(text)
			switch {
			case err != nil:
				t.Fatal(err)
			case *refresh:
				err = os.WriteFile(file, told, 0o644)
			case !bytes.Equal(told, text):
				t.Errorf("it is decided otherwise now; go test -refresh writes it anew:\n%s", told)
			}
			if err != nil {
				t.Fatal(err)
			}
		})
	}
}

// tell plays a story and gives it back with what is decided.
func tell(story []byte) ([]byte, error) {
	var out bytes.Buffer
	m := newModel()
	lines := bufio.NewScanner(bytes.NewReader(story))
	for lines.Scan() {
		line := lines.Text()
		if strings.HasPrefix(line, "  ") {
			continue // what was decided before
		}
		fmt.Fprintln(&out, line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		steps, err := m.happen(strings.Fields(line))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", line, err)
		}
		for range steps {
			at := m.now
			d, counts := m.step()
			m.note(&out, d, counts, at)
		}
	}
	return out.Bytes(), lines.Err()
}

// note writes what was decided in a step, as far as there is anything to tell.
func (m *model) note(out *bytes.Buffer, d Decision, counts bool, at time.Time) {
	say := func(what, text string) {
		fmt.Fprintf(out, "  %s  %-12s %s\n", at.Format("04:05"), what, text)
	}
	if !counts {
		if len(m.state.Owed) > 0 {
			say("owed", fmt.Sprintf("it could not be recorded; the traffic goes first, %d facts are owed", len(m.state.Owed)))
		} else {
			say("lost", "it could not be recorded, so nothing of it happens")
		}
		return
	}
	for _, f := range d.Facts {
		say(string(f.Kind), fmt.Sprintf("%s (by %s)", f.Text, f.By))
	}
	var wants []string
	for _, i := range d.Intents {
		version := "?"
		if r := m.world.Revisions[i.Revision]; r != nil {
			version = r.Version
		}
		want := fmt.Sprintf("%s %s", i.Do, version)
		if i.Part != "" {
			want += fmt.Sprintf(" %s %d", i.Part, i.Count)
		} else if i.Share > 0 {
			want += fmt.Sprintf(" %g", i.Share)
		}
		wants = append(wants, want)
	}
	if len(wants) > 0 {
		say("asks for", strings.Join(wants, ", "))
	}
	for _, a := range d.Answers {
		if a.Err != nil {
			say("refuses", a.Err.Error())
		}
	}
}

// rule adds a schedule (when, what, and perhaps to how many, or skip) or an end of life (when, and how long before it is announced) to
// the line's rules.
func (m *model) rule(kind string, words []string) error {
	in, err := time.ParseDuration(words[0])
	if err != nil {
		return err
	}
	all := declare.Selector{Sites: []string{"*"}}
	if at := m.now.Add(in); kind == "end" {
		notice, err := time.ParseDuration(words[1])
		m.line.Ends = append(m.line.Ends, declare.End{Name: "the trial", Selector: all, At: at.Format("2006-01-02T15:04:05"), Notice: span(notice)})
		if err != nil {
			return err
		}
	} else {
		s := declare.Schedule{Name: fmt.Sprint("schedule ", len(m.line.Schedules)+1), Selector: all, At: at.Format(time.RFC3339), Missed: declare.MissedOnce}
		if last := words[len(words)-1]; last == "skip" {
			s.Missed, words = declare.MissedSkips, words[:len(words)-1]
		} else if count, err := strconv.Atoi(last); err == nil {
			s.To, words = &count, words[:len(words)-1]
		}
		s.Do = declare.Act(strings.Join(words[1:], " "))
		m.line.Schedules = append(m.line.Schedules, s)
	}
	m.world.Rules, err = course.New(m.line, m.now)
	return err
}

// happen makes something happen, and tells how many steps are taken after it.
func (m *model) happen(words []string) (steps int, err error) {
	rest := strings.Join(words[1:], " ")
	switch words[0] {
	case "push":
		m.push(rest)
	case "wait":
		d, err := time.ParseDuration(rest)
		return int(d / beat), err
	case "breach":
		m.verdict, m.then = guard.Breach, guard.Action(rest)
	case "shared":
		m.world.Shared = rest
	case "clear":
		m.verdict = guard.Clear
	case "hand":
		n, err := strconv.Atoi(rest)
		m.hand(n)
		return 1, err
	case "corrects":
		m.world.Drift.Correct = true
	case "by-hand":
		m.world.Automatic = false
	case "away", "back":
		m.down = words[0] == "away"
	case "records":
		m.fails = rest == "fail"
	case "restart":
		return 1, m.restart()
	case "schedule", "end":
		return 0, m.rule(words[0], words[1:])
	case "order":
		verb, note, _ := strings.Cut(rest, ": ")
		o := Order{Verb: Verb(verb), Berth: north, By: "Maren Oake", From: "the shell", Note: note}
		if by, is := strings.CutPrefix(verb, "extend "); is {
			longer, err := time.ParseDuration(by)
			if o.Verb, o.Until = Extend, m.now.Add(longer); err != nil {
				return 0, err
			}
		}
		if to, is := strings.CutPrefix(verb, "scale "); is {
			count, err := strconv.Atoi(to)
			if o.Verb, o.Count = Scale, &count; err != nil {
				return 0, err
			}
		}
		m.orders = append(m.orders, o)
	default:
		return 0, fmt.Errorf("nobody knows what %q is", words[0])
	}
	return 1, nil
}
