package sim

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"aditus/internal/core/declare"
)

// state is the site as kept on file.
type state map[string]map[declare.Fingerprint]cohortState

type cohortState struct {
	Share     float64                 `json:"share"`
	Preview   bool                    `json:"preview,omitempty"`
	Parts     map[string]declare.Part `json:"parts"`
	Next      map[string]int          `json:"next"`
	Instances []instanceState         `json:"instances"`
}

type instanceState struct {
	ID      string    `json:"id"`
	Part    string    `json:"part"`
	Created time.Time `json:"created"`
	Over    time.Time `json:"over,omitzero"`

	Restarted []time.Time `json:"restarted,omitempty"`

	Environment map[string]string `json:"environment,omitempty"`
}

// Together does many things and keeps the state on file once, at their end.
func (s *Site) Together(do func() error) error {
	s.mu.Lock()
	s.together = true
	s.mu.Unlock()
	err := do()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.together = false
	return errors.Join(err, s.save())
}

func (s *Site) save() error {
	if s.file == "" || s.together {
		return nil
	}
	kept := state{}
	for workload, cohorts := range s.workloads {
		kept[workload] = map[declare.Fingerprint]cohortState{}
		for revision, c := range cohorts {
			k := cohortState{Share: c.share, Preview: c.preview, Parts: c.parts, Next: c.next}
			for _, in := range c.instances {
				k.Instances = append(k.Instances, instanceState{in.id, in.part, in.created, in.over, in.restarted, in.environment})
			}
			kept[workload][revision] = k
		}
	}
	text, err := json.Marshal(kept)
	if err == nil {
		err = os.WriteFile(s.file+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(s.file+".new", s.file)
	}
	if err != nil {
		return fmt.Errorf("keep the state of the stand-in site %s: %w", s.name, err)
	}
	return nil
}

func (s *Site) restore(text []byte) error {
	var kept state
	if err := json.Unmarshal(text, &kept); err != nil {
		return err
	}
	for workload, cohorts := range kept {
		s.workloads[workload] = map[declare.Fingerprint]*cohort{}
		for revision, k := range cohorts {
			c := &cohort{share: k.Share, preview: k.Preview, parts: k.Parts, next: k.Next}
			s.workloads[workload][revision] = c
			for _, i := range k.Instances {
				in := s.instance(workload, c, i.Part, i.ID, i.Created)
				in.over, in.environment, in.restarted = i.Over, i.Environment, i.Restarted
				if err := in.start(); err != nil {
					return err
				}
				c.instances = append(c.instances, in)
			}
		}
	}
	return nil
}
