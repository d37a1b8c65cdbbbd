package screen

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/source"
	"aditus/internal/tui/kit"
)

// AskCredential has a credential typed: a user and a password, a token, or, for what is reached by ssh, a file with a key. whose is the name that it
// is kept by, empty while it has none; nothing is what an empty one means. then gets it, as long as the screen that asks is shown; nil where
// nothing was typed.
func (d *Desk) AskCredential(of Screen, whose, nothing string, ssh bool, then func(*source.Credential) tea.Cmd) tea.Cmd {
	if whose != "" {
		whose = " of " + whose
	}
	hints := []kit.Hint{{Key: "enter", Does: "take it"}, {Key: "esc", Does: "leave it"}}
	password := func() tea.Cmd {
		return d.Type(Prompt{Label: "User" + whose + ", empty for a token, or " + nothing + ":", Hints: hints, Done: func(user string) tea.Cmd {
			return d.Type(Prompt{Label: "Password or token" + whose + ", empty " + nothing + ":", Hidden: true, Hints: hints, Done: func(password string) tea.Cmd {
				if user = strings.TrimSpace(user); user+strings.TrimSpace(password) == "" {
					return then(nil)
				}
				return then(&source.Credential{User: user, Password: password})
			}})
		}})
	}
	if !ssh {
		return password()
	}
	return d.Type(Prompt{Label: "File with an ssh key" + whose + ", empty for a password, or " + nothing + ":", Hints: hints, Done: func(name string) tea.Cmd {
		if name = strings.TrimSpace(name); name == "" {
			return password()
		}
		return d.Type(Prompt{Label: "Passphrase of the key, empty for none:", Hidden: true, Hints: hints, Done: func(passphrase string) tea.Cmd {
			return func() tea.Msg {
				key, err := os.ReadFile(atHome(name))
				return Fetched{of, func() tea.Cmd {
					if err != nil {
						d.Say(fmt.Sprintf("The ssh key cannot be read: %v.", err), true)
						return nil
					}
					return then(&source.Credential{Key: string(key), Passphrase: passphrase})
				}}
			}
		}})
	}})
}

// atHome is a path as people write it, with ~ for their home folder.
func atHome(name string) string {
	if rest, is := strings.CutPrefix(name, "~/"); is {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return name
}
