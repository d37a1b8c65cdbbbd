package sites

import (
	"context"
	"fmt"
	"maps"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/config"
	"aditus/internal/status"
	"aditus/internal/tui/screen"
)

// offers is what a key does to the selected site, in the bar; nothing where settings are not changed from here.
func (m *Model) offers(what func(status.Site) string) string {
	if s, ok := m.selected(); ok && m.desk.Settings != nil && s.Rules == "" {
		return what(s)
	}
	return ""
}

// toggled is what comes of something that is so, or is not.
func toggled(is bool, off, on string) string {
	if is {
		return off
	}
	return on
}

// takesItself has a site take revisions by itself, or by hand.
func takesItself(s status.Site, entry map[string]any) (question string) {
	entry["automatic"] = !s.Automatic
	if s.Automatic {
		return fmt.Sprintf("Have %s take revisions by hand? What is declared comes there when a person syncs it.", s.Name)
	}
	return fmt.Sprintf("Have %s take revisions by itself? What is declared and is not there yet comes at once, in its stages.", s.Name)
}

// putsBack has what is changed by hand at a site put back by itself, or told.
func putsBack(s status.Site, entry map[string]any) (question string) {
	drift, _ := entry["drift"].(map[string]any)
	if drift = maps.Clone(drift); drift == nil {
		drift = map[string]any{}
	}
	entry["drift"] = drift
	if s.Corrects {
		drift["then"] = config.TellDrift
		return fmt.Sprintf("Only tell what is changed by hand at %s? It is left as it is until a person says.", s.Name)
	}
	drift["then"] = config.CorrectDrift
	return fmt.Sprintf("Put back by itself what is changed by hand at %s? It is announced before; what is drifted now is announced at once.", s.Name)
}

// change asks, and writes the selected site's entry of the settings as a change makes it. Where Git has the rules it is told where.
func (m *Model) change(how func(s status.Site, entry map[string]any) string) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		s, ok := m.selected()
		if !ok {
			return nil
		}
		if s.Rules != "" {
			m.desk.Say(fmt.Sprintf("That stands in line.yaml of the link %s, for %s: change it there.", s.Rules, s.Name), true)
			return nil
		}
		if m.desk.Settings == nil {
			m.desk.Say("Settings are changed at the server, not from here.", true)
			return nil
		}
		begin := func() { m.eager = m.now.Add(eagerFor) }
		m.desk.Ask(screen.Question{Text: how(s, map[string]any{}), Begin: begin, Do: func(ctx context.Context) (string, error) {
			entry, err := m.entry(ctx, s.Name)
			if err != nil {
				return "", err
			}
			how(s, entry)
			if err := m.desk.Settings.PutSettings(ctx, m.desk.Who, nil, config.Entry{Section: "sites", Name: s.Name, Value: entry}); err != nil {
				return "", err
			}
			return fmt.Sprintf("It is written in the settings, at the site %s.", s.Name), nil
		}})
		return nil
	}
}

// entry is what stands of a site in the settings, without its name.
func (m *Model) entry(ctx context.Context, name string) (map[string]any, error) {
	all, err := m.desk.Settings.Settings(ctx, m.desk.Who)
	if err != nil {
		return nil, err
	}
	sites, _ := all["sites"].([]any)
	for _, one := range sites {
		if entry, _ := one.(map[string]any); entry["name"] == name {
			entry = maps.Clone(entry)
			delete(entry, "name")
			return entry, nil
		}
	}
	return nil, fmt.Errorf("the site %s does not stand in the settings", name)
}
