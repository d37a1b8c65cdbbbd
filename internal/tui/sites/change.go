package sites

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/config"
	"aditus/internal/core/calendar"
	"aditus/internal/core/say"
	"aditus/internal/status"
	"aditus/internal/tui/kit"
	"aditus/internal/tui/screen"
	"aditus/internal/tui/settings"
	"aditus/internal/words"
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
			err := settings.Change(ctx, m.desk, "sites", s.Name, func(entry map[string]any) { how(s, entry) })
			return fmt.Sprintf("It is written in the settings, at the site %s.", s.Name), err
		}})
		return nil
	}
}

// followOffer is what f does, in the bar.
func (m *Model) followOffer() string {
	s, ok := m.selected()
	if !ok || m.desk.Settings == nil {
		return ""
	}
	_, branch := m.follows(s.Name)
	return toggled(branch != "", "follow no branch", "follow a branch")
}

// follow has a site follow another branch of a link for a while, or no longer.
func (m *Model) follow(string) tea.Cmd {
	s, ok := m.selected()
	if !ok {
		return nil
	}
	if m.desk.Settings == nil {
		m.desk.Say("Settings are changed at the server, not from here.", true)
		return nil
	}
	link, branch := m.follows(s.Name)
	if branch != "" {
		m.desk.Ask(screen.Question{
			Text: fmt.Sprintf("Have %s no longer follow the branch %s of %s? What the link itself declares is taken there again, as the site takes revisions.", s.Name, branch, link),
			Do: func(ctx context.Context) (string, error) {
				return "It is taken out of the settings.", m.desk.Settings.DropSetting(ctx, m.desk.Who, "follow", s.Name)
			},
		})
		return nil
	}
	if link == "" {
		m.desk.Say("No link declares anything there: what would it follow a branch of?", true)
		return nil
	}
	return m.desk.Type(screen.Prompt{
		Label: fmt.Sprintf("A branch of %s that %s follows, and until when (trial 2026-12-24):", link, s.Name),
		Hints: []kit.Hint{{Key: "enter", Does: "see what is written"}, {Key: "esc", Does: "leave it"}},
		Done: func(text string) tea.Cmd {
			branch, end, _ := strings.Cut(strings.TrimSpace(text), " ")
			until, err := calendar.Moment(strings.TrimSpace(end), time.Local)
			if branch == "" || err != nil {
				m.desk.Say("Nothing was changed: it takes a branch, and a day or a moment, such as trial 2026-12-24.", true)
				return nil
			}
			m.desk.Ask(screen.Question{
				Text: fmt.Sprintf("Have %s follow the branch %s of %s until %s? What that declares there is taken instead of what the link does, as the site takes revisions.", s.Name, branch, link, say.Moment(until)),
				Do: func(ctx context.Context) (string, error) {
					return "It is written in the settings.", m.desk.Settings.PutSettings(ctx, m.desk.Who, nil, config.Entry{Section: "follow", Name: s.Name, Value: map[string]any{"link": link, "branch": branch, "until": until.Format(time.RFC3339)}})
				},
			})
			return nil
		},
	})
}

// follows is the link that declares most at a site, and the branch of it that the site follows for a while; empty for none.
func (m *Model) follows(site string) (link, branch string) {
	for _, l := range m.links {
		if l.Follows == site {
			return words.LinkName(l), l.Ref
		}
	}
	most := map[string]int{}
	for _, b := range m.berths {
		if b.Site == site && b.Link != "" {
			if most[b.Link]++; most[b.Link] > most[link] || most[b.Link] == most[link] && b.Link < link {
				link = b.Link
			}
		}
	}
	return link, ""
}
