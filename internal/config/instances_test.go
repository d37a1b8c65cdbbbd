package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestSetInstances writes users into settings, says why, and leaves the rest as it is.
func TestSetInstances(t *testing.T) {
	folder := t.TempDir()
	name := filepath.Join(folder, FileName)
	if err := os.WriteFile(name, []byte(settings), 0o600); err != nil {
		t.Fatal(err)
	}
	i := Instances{Users: "700000-700999", Folder: "/srv/aditus"}
	s, err := SetInstances(folder, i)
	text, _ := os.ReadFile(name)
	if err != nil || !s.Instances.Apart() || s.Instances.All() != i.Users || s.Instances.Folder != i.Folder || len(s.Sites) == 0 || !strings.Contains(string(text), "users: none has all run as the one that Aditus runs as") {
		t.Errorf("%+v (%v): %s", s.Instances, err, text)
	}
	if s, err = SetInstances(folder, Instances{Users: NoUsers}); err != nil || s.Instances.Apart() || s.Instances.All() != "" {
		t.Errorf("without: %+v (%v)", s.Instances, err)
	}
}
