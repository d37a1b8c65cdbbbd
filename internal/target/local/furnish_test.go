package local

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"aditus/internal/core/declare"
	"aditus/internal/socket/porttest"
	"aditus/internal/target"
)

// TestPrograms runs programs as people have them: with files of their own and what they are told filled in, on a port that they
// cannot be told, in a folder and with a umask, programs of the machine, and each told where the other one is.
func TestPrograms(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	s.Programs = []string{"/usr/lib"}
	_, fixed, _ := net.SplitHostPort(porttest.Free(t))
	number, _ := strconv.Atoi(fixed)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	cabin := archive(t, "cabin", map[string]string{"service": "#!" + self + " -service\n" + `{"Version":"cabin"}`, "run/here/chart": "of the artifact's own", "etc/others.conf": "too"})
	desired := func(deck string) declare.Desired {
		d := ferry(deck)
		on := d.Parts["deck"]
		on.Environment = map[string]string{"CABIN": "http://${cabin.host}:${cabin.port.inside}/", "PLAIN": "${nobody.port}"}
		d.Parts["deck"] = on
		d.Parts["cabin"] = declare.Part{
			Kind: declare.Service, Artifact: cabin, Ports: map[string]int{"inside": number}, Fixed: true, Folder: "run/here", Umask: "0027", Instances: 1, Volumes: map[string]string{"stowage": "/stowed"},
			Environment: map[string]string{"DECK": "http://${deck.host}:${deck.port}/"},
			Files: map[string]declare.File{
				"etc/cabin.conf":  {Text: "listen ${PORT} ${PORT_INSIDE} ${WORD} at ${deck.host} $${PLAIN} $host ${UNKNOWN}", Mode: "0640"},
				"stowed/sub/list": {Text: "in a volume", Mode: "0600"},
				"service.note":    {Text: "beside what the artifact has", Mode: "0600"},
			},
			Stop: on.Stop,
		}
		d.Parts["stowage"] = declare.Part{Kind: declare.Volume, Size: 1 << 20}
		d.Parts["tide"] = declare.Part{Kind: declare.Service, Command: []string{"/bin/sleep", "600"}, Instances: 1}
		d.Parts["moon"] = declare.Part{Kind: declare.Service, Command: []string{"/bin/../etc/moon", "600"}, Instances: 1}
		return d
	}
	do := func(wants ...target.Want) {
		t.Helper()
		if err := s.Apply(t.Context(), workload, wants); err != nil {
			t.Fatal(err)
		}
	}
	do(target.Prepare(revision(1), desired(artifact(t, "deck-1", behaviour{Version: "1"}))), target.Scale(revision(1), "deck", 2), target.Scale(revision(1), "cabin", 1), target.Scale(revision(1), "tide", 1), target.Scale(revision(1), "moon", 1), target.SetShare(revision(1), 1, ""))
	var moon target.Instance
	for _, in := range await(t, s, 1, "all run but one", running(4)) {
		switch in.Part {
		case "moon":
			moon = in
		case "cabin":
			if in.Ports["inside"] != number {
				t.Errorf("its port is %v", in.Ports)
			}
		}
	}
	if !strings.Contains(moon.CannotStart, "neither in it nor on this machine") {
		t.Errorf("a program that is not there: %+v", moon)
	}
	if got := ask(t, s, "/reach?by=CABIN"); !strings.HasPrefix(got, "cabin ") {
		t.Errorf("the deck reaches %q", got)
	}
	inside := &Site{Options: Options{Listen: net.JoinHostPort("127.0.0.1", fixed)}}
	if got, want := ask(t, inside, "/file?name=../../etc/cabin.conf"), fmt.Sprintf("listen %d %d ahoy at 127.0.0.1 ${PLAIN} $host ${UNKNOWN}|-rw-r-----|here|-rw-r-----|<nil>", number, number); got != want {
		t.Errorf("its file is %s, want %s", got, want)
	}
	if got := ask(t, inside, "/file?name=chart") + ask(t, inside, "/file?name=../../etc/others.conf"); !strings.HasPrefix(got, "of the artifact's own|") || !strings.Contains(got, "too|") {
		t.Errorf("where it runs it does not find what its artifact has there: %s", got)
	}
	if got := ask(t, inside, "/file?name=../../stowed/sub/list"); !strings.HasPrefix(got, "in a volume|") {
		t.Errorf("in its volume it finds %s", got)
	}
	if unpacked, err := s.Store.Get(cabin); err != nil {
		t.Error(err)
	} else if _, err := os.Stat(filepath.Join(unpacked.Root, "run", "here", "made")); err == nil {
		t.Error("what it wrote where it runs lies in the artifact")
	}
	if got := ask(t, inside, "/reach?by=DECK"); !strings.HasPrefix(got, "1 ") {
		t.Errorf("the cabin reaches %q", got)
	}
	if got := ask(t, s, "/environment"); !strings.Contains(got, "PLAIN=${nobody.port}") {
		t.Errorf("what nobody meant was filled in: %s", got)
	}
	do(target.Prepare(revision(2), desired(artifact(t, "deck-2", behaviour{Version: "2"}))), target.Take(revision(1), revision(2), "cabin"), target.Scale(revision(2), "deck", 1))
	await(t, s, 2, "the new deck runs, and the cabin is there", running(2))
	if got := ask(t, inside, "/reach?by=DECK"); !strings.HasPrefix(got, "1 ") {
		t.Errorf("without a share for new the cabin reaches %q", got)
	}
	do(target.SetShare(revision(2), 1, ""), target.Delete(revision(1)))
	for range 3 {
		if got := ask(t, inside, "/reach?by=DECK"); !strings.HasPrefix(got, "2 ") {
			t.Errorf("once the old one is gone the cabin reaches %q", got)
		}
		if got := ask(t, s, "/reach?by=CABIN"); !strings.HasPrefix(got, "cabin ") {
			t.Errorf("the new deck reaches %q", got)
		}
	}
	do(target.Prepare(revision(3), desired(cabin)), target.Scale(revision(3), "cabin", 1))
	await(t, s, 3, "its port is taken", func(all []target.Instance) bool {
		return len(all) == 1 && strings.Contains(all[0].Reason, fmt.Sprintf("its port %d is taken by ferry-cabin-", number))
	})
	do(target.SetShare(revision(3), 1, ""), target.Delete(revision(2)))
	await(t, s, 3, "its port is free", running(1))
}

// TestAcross has a workload's instances told where another workload's are, which change.
func TestAcross(t *testing.T) {
	s := opened(t, shortTemp(t), "drydock")
	up(t, s, 1, artifact(t, "deck-1", behaviour{Version: "1"}), 1)
	quay := ferry(artifact(t, "quay", behaviour{Version: "quay"}))
	quay.Workload, quay.Needs = "quay", []string{workload}
	on := quay.Parts["deck"]
	on.Environment = map[string]string{"FERRY": "http://${ferry.deck.host}:${ferry.deck.port}/"}
	quay.Parts["deck"] = on
	entry := quay.Parts["entry"]
	entry.Host = "quay.skerry.example"
	quay.Parts["entry"] = entry
	if err := s.Apply(t.Context(), "quay", []target.Want{target.Prepare(revision(7), quay), target.Scale(revision(7), "deck", 1), target.SetShare(revision(7), 1, "")}); err != nil {
		t.Fatal(err)
	}
	var port int
	for port == 0 {
		if seen, err := s.Observe(t.Context(), "quay"); err == nil && len(seen.Cohorts) == 1 && len(seen.Cohorts[0].Instances) == 1 {
			port = seen.Cohorts[0].Instances[0].Ports["http"]
		}
	}
	there := &Site{Options: Options{Listen: net.JoinHostPort("127.0.0.1", strconv.Itoa(port))}}
	if got := ask(t, there, "/reach?by=FERRY"); !strings.HasPrefix(got, "1 ") {
		t.Errorf("the quay reaches %q", got)
	}
	up(t, s, 2, artifact(t, "deck-2", behaviour{Version: "2"}), 1)
	await(t, s, 2, "the second runs", running(1))
	if err := s.Apply(t.Context(), workload, []target.Want{target.Delete(revision(1))}); err != nil {
		t.Fatal(err)
	}
	if got := ask(t, there, "/reach?by=FERRY"); !strings.HasPrefix(got, "2 ") {
		t.Errorf("then the quay reaches %q", got)
	}
}
