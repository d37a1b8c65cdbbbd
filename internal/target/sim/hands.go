package sim

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

// Hand is a change that a person makes at a site behind Aditus' back.
type Hand struct {
	Workload string `json:"workload"`
	Part     string `json:"part"`
	Field    string `json:"field"` // instances, artifact, environment.NAME, values.NAME; "gone" takes the part away
	Value    string `json:"value"`
}

// apply makes the change on a part as it is.
func (h Hand) apply(p *declare.Part) error {
	name, key, _ := strings.Cut(h.Field, ".")
	set := func(m *map[string]string) {
		changed := maps.Clone(*m)
		if changed == nil {
			changed = map[string]string{}
		}
		if changed[key] = h.Value; h.Value == "" {
			delete(changed, key)
		}
		*m = changed
	}
	switch {
	case h.Field == "instances":
		count, err := strconv.Atoi(h.Value)
		if err != nil || count < 0 || count > 1000 {
			return fmt.Errorf("instances must be a whole number from 0 to 1000, not %q", h.Value)
		}
		p.Instances = count
	case h.Field == "artifact" && h.Value != "":
		p.Artifact = h.Value
	case name == "environment" && key != "":
		set(&p.Environment)
	case name == "values" && key != "":
		set(&p.Values)
	default:
		return fmt.Errorf("a stand-in has no field %q to change; there are instances, artifact, environment.NAME, values.NAME and gone", h.Field)
	}
	return nil
}

// handsFile is where changes by hand are left for a site whose program runs.
func handsFile(folder, site string) string { return filepath.Join(folder, site+".hands.jsonl") }

// LeaveHand leaves a change for the stand-in site in a folder; it is made the next time the site is looked at.
func LeaveHand(folder, site string, h Hand) error {
	if err := (h.check()); err != nil {
		return err
	}
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(handsFile(folder, site), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("change the stand-in site %s: %w", site, err)
	}
	_, err = file.Write(append(text, '\n'))
	return errors.Join(err, file.Close())
}

func (h Hand) check() error {
	if h.Field == "gone" {
		return nil
	}
	return h.apply(&declare.Part{})
}

// takeHands makes the changes that were left for the site.
func (s *Site) takeHands() error {
	if s.folder == "" {
		return nil
	}
	name := handsFile(s.folder, s.name)
	text, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = os.Remove(name)
	}
	if err != nil {
		return fmt.Errorf("change the stand-in site %s by hand: %w", s.name, err)
	}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for lines.Scan() {
		var h Hand
		if json.Unmarshal(lines.Bytes(), &h) == nil {
			_ = s.change(h) // whoever left it was told what is wrong with it; what it was about may be gone by now
		}
	}
	return nil
}

// ChangeByHand changes what serves behind Aditus' back, as a person at the site would.
func (s *Site) ChangeByHand(h Hand) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.change(h)
}

// apply writes into the book what someone wants of it.
func (s *Site) apply(workload string, wants ...target.Want) error {
	return s.book.Apply(workload, wants, s.splits, s.now())
}

func (s *Site) change(h Hand) error {
	for revision, c := range s.cohorts(h.Workload) {
		if c.Share == 0 && len(c.Instances) > 0 {
			continue
		}
		s.advance(h.Workload, s.now())
		if h.Field == "gone" {
			return errors.Join(s.apply(h.Workload, target.RemovePart(revision, h.Part)), s.settle(h.Workload))
		}
		part, ok := c.Parts[h.Part]
		if !ok {
			part = declare.Part{Kind: declare.Service, Artifact: "registry.example/by-hand:1"}
			if strings.HasPrefix(h.Field, "values.") {
				part = declare.Part{Kind: declare.Settings}
			}
		}
		if err := h.apply(&part); err != nil {
			return err
		}
		wants := []target.Want{target.Prepare(revision, declare.Desired{Parts: map[string]declare.Part{h.Part: part}})}
		if part.Kind == declare.Service {
			wants = append(wants, target.Scale(revision, h.Part, part.Instances))
		}
		return errors.Join(s.apply(h.Workload, wants...), s.settle(h.Workload))
	}
	return fmt.Errorf("change %s at %s by hand: %w", h.Workload, s.name, errNotServing)
}
