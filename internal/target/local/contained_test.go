package local

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"aditus/internal/core/declare"
	"aditus/internal/target/local/store"
	"aditus/internal/target/wanted"
)

// TestNotContained tells what a part asks for that a container cannot give it, for good.
func TestNotContained(t *testing.T) {
	s := &Site{}
	c := &wanted.Cohort{Parts: map[string]declare.Part{"db": {Kind: declare.Service, Ports: map[string]int{"sql": 5432}}}}
	at := func(value string) declare.Part {
		return declare.Part{Kind: declare.Service, Artifact: "r.example/web:1", Environment: map[string]string{"AT": value}}
	}
	umask := at("")
	umask.Umask = "0027"
	for name, test := range map[string]struct {
		part declare.Part
		want string
	}{
		"a part of its own":   {at("${db.host}:${db.port}"), ""},
		"by the port's name":  {at("${db.port.sql}"), ""},
		"another port":        {at("${db.port.admin}"), "an address of db"},
		"another workload's":  {at("${ledger.db.port}"), "an address of ledger.db"},
		"with umask":          {umask, "that of its image"},
		"without an artifact": {declare.Part{Kind: declare.Service, Command: []string{"/bin/true"}}, "no programs of the machine"},
	} {
		err := notContained(test.part, s.within(workload, c))
		if (err != nil) != (test.want != "") || err != nil && (!strings.Contains(err.Error(), test.want) || !store.Final(err)) {
			t.Errorf("%s: %v, want %q", name, err, test.want)
		}
	}
}

// TestOpenToRead lets others read settings, and leaves declared files the mode that they have.
func TestOpenToRead(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{"hours/opens.at", filesFolder + "/etc/deck.conf"} {
		at := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := openToRead(folder); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]os.FileMode{"hours": 0o755, "hours/opens.at": 0o644, filesFolder + "/etc/deck.conf": 0o600} {
		if info, err := os.Stat(filepath.Join(folder, name)); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s has the mode %v, want %v (%v)", name, info.Mode().Perm(), want, err)
		}
	}
}
