// Package keeper keeps processes: it starts what it is told to, starts anew what ends by itself, keeps what they write,
// tells the router where traffic may go, and ends what is no longer wanted. It runs as a process of its own, so that the processes it
// keeps outlive the program that asks for them; and as it takes over what it finds running, they outlive the keeper too.
// It takes no decisions about a release.
package keeper

import (
	"time"

	"aditus/internal/confine"
	"aditus/internal/core/declare"
	"aditus/internal/limit"
	"aditus/internal/target"
	"aditus/internal/target/router"
)

// Format is the version of what server and keeper say to each other. A keeper of another format is asked to leave, with
// its processes running, and one of this format takes over.
const Format = 8

// Spec is all that one site is to run. Told again it changes nothing; what is not in it any more is ended.
type Spec struct {
	Folder    string    `json:"folder"`           // that has the folders of all of the site's instances
	Room      string    `json:"room,omitempty"`   // that has those of instances for which the disk was full
	Counts    string    `json:"counts,omitempty"` // that keeps what is counted of traffic
	Listen    string    `json:"listen"`           // where HTTP traffic comes in
	Ports     [2]int    `json:"ports"`            // the first and the last that instances are given
	Processes []Process `json:"processes"`
	Routes    []Route   `json:"routes"`
	Engine    string    `json:"engine,omitempty"` // of the site's containers; empty where it has none
	Gone      []string  `json:"gone,omitempty"`   // folders that are to be removed, with what users have in them
	Only      []string  `json:"only,omitempty"`   // the workloads of which this is all; of the others nothing changes
	Partly    bool      `json:"partly,omitempty"` // not all is known that is to run: what is not named here runs on, and is led to as it was
}

// Process is one process to be kept. Its folder, named by ID, has work, which it runs in, and log, and the keeper's
// record of it.
type Process struct {
	ID        string          `json:"id"`
	Workload  string          `json:"workload"`
	Folder    string          `json:"folder,omitempty"`  // its own; where it is left out, the one of its name in the site's
	Args      []string        `json:"args"`              // the executable and its arguments, $NAME standing for variables
	Env       []string        `json:"env,omitempty"`     // all of its environment but for its ports
	Dir       string          `json:"dir,omitempty"`     // within work, where it runs
	Umask     string          `json:"umask,omitempty"`   // octal; the keeper's own where it is left out
	Reach     *confine.Rules  `json:"reach,omitempty"`   // what it may reach of the machine's files; nil for all
	Limits    *limit.Limits   `json:"limits,omitempty"`  // the most that it may have of the machine; nil for no bound
	User      int             `json:"user,omitempty"`    // the number of the user and the group that it runs as; 0 for the keeper's own
	Secrets   string          `json:"secrets,omitempty"` // the folder of what is its alone, in memory where there is one there
	Volumes   []string        `json:"volumes,omitempty"` // folders that are its user's
	Files     []File          `json:"files,omitempty"`   // that it finds when it starts, in FilesFolder of its secrets
	Fixed     map[string]int  `json:"fixed,omitempty"`   // of its ports, those that have a number of their own
	Ports     []string        `json:"ports,omitempty"`   // names; the number comes as PORT_NAME, and PORT where there is one alone
	Once      bool            `json:"once,omitempty"`    // it runs to its end and is not started again
	Stop      declare.Stop    `json:"stop"`
	Probes    []declare.Probe `json:"probes,omitempty"`    // that say whether it may have traffic
	Again     int             `json:"again,omitempty"`     // how often it was asked to be started anew
	Stay      bool            `json:"stay,omitempty"`      // it cannot be started now, and runs on where it does
	Container *Container      `json:"container,omitempty"` // that it is in; nil for a process of the machine
	Found     *target.Found   `json:"found,omitempty"`     // what is it already, until it is started for the first time; nil for nothing
}

// File is a file that is laid before each start, with ${NAME} for what is in the environment.
type File struct {
	At   string `json:"at"` // within FilesFolder
	Text string `json:"text"`
	Mode string `json:"mode"` // octal
}

// Route is a route whose instances are named by ID alone; the keeper knows where they listen.
type Route struct {
	router.Route
	Workload string `json:"workload"`
	Port     string `json:"port"` // of the instances, by name
}

// Status is what became of a Spec.
type Status struct {
	Version   uint64                   `json:"version"` // rises with every change
	Known     bool                     `json:"told"`    // false where this keeper has no spec of the site
	Processes map[string]State         `json:"processes"`
	Counts    map[string]router.Counts `json:"counts,omitempty"`   // by instance
	Silent    string                   `json:"silent,omitempty"`   // why the container engine of the site does not answer
	Ready     int                      `json:"ready"`              // of all its processes, those that may have traffic
	Unserved  uint64                   `json:"unserved"`           // requests that found no instance
	Troubles  router.Troubles          `json:"troubles,omitempty"` // why traffic cannot come in
}

// State is how a process is doing.
type State struct {
	Changed   uint64         `json:"changed"` // the site's version at its last change
	Ports     map[string]int `json:"ports,omitempty"`
	Running   bool           `json:"running"`
	Led       bool           `json:"led"` // its probes passed, and traffic is led to it
	Started   time.Time      `json:"started,omitzero"`
	Restarts  []time.Time    `json:"restarts,omitempty"` // the last ones
	Again     time.Time      `json:"again,omitzero"`     // when it is started again, while it is down
	Reason    string         `json:"reason,omitempty"`   // why it is down
	Done      bool           `json:"done,omitempty"`
	Failed    string         `json:"failed,omitempty"`
	Events    []Event        `json:"events,omitempty"`
	CPU       float64        `json:"cpu,omitempty"`       // seconds of processor time since its start
	Cores     float64        `json:"cores,omitempty"`     // that it has used lately
	Memory    uint64         `json:"memory,omitempty"`    // bytes resident
	ByHand    []string       `json:"by-hand,omitempty"`   // what somebody changed of it while it runs
	Container string         `json:"container,omitempty"` // that it runs in
	NoImage   bool           `json:"no-image,omitempty"`  // its engine has not the image that it is to run
	Ails      string         `json:"ails,omitempty"`      // what its image's own check says against it while it runs
	Found     bool           `json:"found,omitempty"`     // nobody here started it: it ran already
}

// Taken is the answer to a Spec.
type Taken struct {
	Version uint64 `json:"version"` // of the site once it was taken
}

// Event is something that happened to a process.
type Event struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
	Bad  bool      `json:"bad,omitempty"`
}
