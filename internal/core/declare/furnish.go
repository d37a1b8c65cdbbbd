package declare

import (
	"path"
	"regexp"
	"slices"
	"strings"
)

// File is a file that is laid for each instance before it starts.
type File struct {
	Text string `json:"text"` // with ${…} for what an instance is told, see References and FileNames
	Mode string `json:"mode"` // permission bits, octal
}

// DefaultMode is the mode of a file where none is declared.
const DefaultMode = "0600"

var (
	octalPattern     = regexp.MustCompile(`^0?[0-7]{3}$`)
	referencePattern = regexp.MustCompile(`^(?:([a-z][a-z0-9-]*)\.)?([a-z][a-z0-9-]*)\.(host|port)(?:\.([a-z][a-z0-9-]*))?$`)
	instancePattern  = regexp.MustCompile(`^[A-Z_][A-Z0-9_]*$`)
	instanceForm     = regexp.MustCompile(`\$?\$\{([^}:]*)\}`) // $${ is a plain ${
)

// furnishing reads the keys of services and tasks that say what an instance finds where it runs.
func (r *reader) furnishing(part *Part, known map[string]func(Node, string)) {
	within := func(n Node, p, what string) string {
		text := r.text(n, p, what)
		if text != "" && (slices.Contains(strings.Split(text, "/"), "..") || strings.ContainsRune(text, 0) || strings.Trim(text, "/.") == "") {
			r.wrong(n, p, "write it like etc/web.conf", "%q does not lie within the instance's folder", text)
		}
		return strings.TrimLeft(path.Clean("/"+text), "/")
	}
	octal := func(n Node, p, what, example string) string {
		if !octalPattern.MatchString(n.Text) {
			r.wrong(n, p, "write it like "+example, "%s is three octal digits, not %q", what, n.Text)
			return ""
		}
		return "0" + n.Text[len(n.Text)-3:]
	}
	known["files"] = func(n Node, p string) {
		part.Files = map[string]File{}
		r.fileEntries(n, p, func(key, value Node, p string) {
			file := File{Mode: DefaultMode}
			if value.Kind == Text {
				file.Text = value.Text
			} else {
				r.fields(value, p, "a file", []string{"text"}, map[string]func(Node, string){
					"text": func(n Node, p string) {
						if n.Kind != Text {
							r.wrong(n, p, "write text: |, and its lines below", "the text of a file must be text, not %s", n.Kind)
						}
						file.Text = n.Text
					},
					"mode": func(n Node, p string) { file.Mode = octal(n, p, "the mode of a file", DefaultMode) },
				})
			}
			name := within(key, p, "the name of a file")
			if _, twice := part.Files[name]; twice {
				r.wrong(key, p, "remove one of them", "%s is declared twice", name)
			}
			if name != "" {
				part.Files[name] = file
			}
		})
	}
	known["folder"] = func(n Node, p string) { part.Folder = within(n, p, "the working folder") }
	known["umask"] = func(n Node, p string) {
		if part.Umask = octal(n, p, "umask", "0027"); part.Umask != "" && part.Umask[1] != '0' {
			r.wrong(n, p, "write it like 0027", "umask %s takes from the owner what is its own", part.Umask)
		}
	}
}

// fileEntries reads a mapping whose keys are names of files.
func (r *reader) fileEntries(n Node, pointer string, do func(key, value Node, p string)) {
	if n.Kind != Map || len(n.Entries) == 0 {
		r.wrong(n, pointer, "write files: {etc/web.conf: {text: …}}", "files must be a mapping from names to texts, not %s", n.Kind)
		return
	}
	for _, e := range n.Entries {
		do(e.Key, e.Value, pointer+"/"+Escape(e.Key.Text))
	}
}

// Keeps tells whether a part is never there twice: it keeps state in a volume, or has ports of its own.
func (p Part) Keeps() bool {
	return p.Kind == Service && p.Instances == 1 && (len(p.Volumes) > 0 || p.Fixed)
}

// Reference is an address that an instance is told: ${part.host} and ${part.port}, ${part.port.NAME} where the part has
// several, and the name of a workload that is needed before it: ${workload.part.port}.
type Reference struct {
	Workload string // empty for the part's own
	Part     string
	Port     string // by name; empty where the part has one alone
	Host     bool   // the host, rather than the port
}

func parseReference(name string) (Reference, bool) {
	m := referencePattern.FindStringSubmatch(name)
	if m == nil || m[3] == "host" && m[4] != "" {
		return Reference{}, false
	}
	return Reference{Workload: m[1], Part: m[2], Port: m[4], Host: m[3] == "host"}, true
}

// told are the texts of a part in which an instance's addresses may stand.
func (p Part) told(do func(text string)) {
	for _, name := range keysOf(p.Environment) {
		do(p.Environment[name])
	}
	for _, text := range p.Command {
		do(text)
	}
	for _, name := range keysOf(p.Files) {
		do(p.Files[name].Text)
	}
}

// References are all addresses that instances of the part are told.
func (p Part) References() (all []Reference) {
	p.told(func(text string) {
		for _, m := range instanceForm.FindAllStringSubmatch(text, -1) {
			if ref, ok := parseReference(m[1]); ok && !escaped(m[0]) && !slices.Contains(all, ref) {
				all = append(all, ref)
			}
		}
	})
	return all
}

// Tell fills addresses into a text. Whatever value does not know stays as it stands.
func Tell(text string, value func(Reference) (string, bool)) string {
	if !strings.Contains(text, "${") {
		return text
	}
	return instanceForm.ReplaceAllStringFunc(text, func(whole string) string {
		ref, ok := parseReference(inner(whole))
		if !ok || escaped(whole) {
			return whole
		}
		if told, ok := value(ref); ok {
			return told
		}
		return whole
	})
}

// TellNames fills what an instance has in its environment into the text of one of its files.
func TellNames(text string, value func(name string) (string, bool)) string {
	return instanceForm.ReplaceAllStringFunc(text, func(whole string) string {
		if escaped(whole) {
			return whole[1:]
		}
		if told, ok := value(inner(whole)); ok {
			return told
		}
		return whole
	})
}

func escaped(whole string) bool { return strings.HasPrefix(whole, "$$") }

func inner(whole string) string { return whole[strings.IndexByte(whole, '{')+1 : len(whole)-1] }

// leftToInstance tells whether a variable at a place is filled in for each instance, where it runs.
func leftToInstance(pointer, name string) bool {
	m := furnished.FindStringSubmatch(pointer)
	if m == nil {
		return false
	}
	_, address := parseReference(name)
	return address || m[1] == "files" && instancePattern.MatchString(name)
}

var furnished = regexp.MustCompile(`^/parts/[^/]+/(environment|command|files)(?:/|$)`)

// FileNames are the names that the text of a part's files may use: what its instances have in their environment.
func (d Desired) FileNames(part string) map[string]bool {
	p := d.Parts[part]
	names := map[string]bool{"INSTANCE": true, "WORKLOAD": true, "SITE": true, "SETTINGS": true, "SECRETS": true, "PORT": len(p.Ports) == 1}
	for name := range p.Ports {
		names["PORT_"+EnvironmentName(name)] = true
	}
	for name := range p.Volumes {
		names["VOLUME_"+EnvironmentName(name)] = true
	}
	for name := range p.Environment {
		names[name] = true
	}
	for _, other := range d.Parts {
		if other.Kind == Settings || other.Kind == Secret {
			for key := range other.Values {
				names[EnvironmentName(key)] = true
			}
		}
	}
	return names
}

// furnished checks what instances of a part are told.
func (r *reader) furnished(d Desired, name string, place func(key string) Node) {
	part, p := d.Parts[name], "/parts/"+Escape(name)
	for _, ref := range part.References() {
		at, pointer := place("environment"), p
		own := ref.Workload == "" || ref.Workload == d.Workload
		if !own {
			if !slices.Contains(d.Needs, ref.Workload) {
				r.wrong(at, pointer, "write needs: ["+ref.Workload+"] above parts", "%s is told where %s of the workload %s is, which %s does not need", name, ref.Part, ref.Workload, d.Workload)
			}
			continue
		}
		to, ok := d.Parts[ref.Part]
		_, named := to.Ports[ref.Port]
		switch {
		case !ok || to.Kind != Service:
			r.wrong(at, pointer, didYouMean(ref.Part, d.Running())+"; $${ is a plain ${", "%s is told where %q is, and there is no such service", name, ref.Part)
		case len(to.Ports) == 0:
			r.wrong(at, pointer, "declare its ports", "%s is told where %s is, which has no port", name, ref.Part)
		case ref.Port != "" && !named:
			r.wrong(at, pointer, didYouMean(ref.Port, keysOf(to.Ports)), "%s is told the port %q of %s, which it has not", name, ref.Port, ref.Part)
		case ref.Port == "" && !ref.Host && len(to.Ports) > 1:
			r.wrong(at, pointer, "write ${"+ref.Part+".port."+keysOf(to.Ports)[0]+"}", "%s is told the port of %s, which has several", name, ref.Part)
		}
	}
	known := d.FileNames(name)
	for _, file := range keysOf(part.Files) {
		for _, m := range instanceForm.FindAllStringSubmatch(part.Files[file].Text, -1) {
			if instancePattern.MatchString(m[1]) && !escaped(m[0]) && !known[m[1]] {
				var names []string
				for name, is := range known {
					if is {
						names = append(names, name)
					}
				}
				slices.Sort(names)
				r.wrong(place("files"), p+"/files/"+Escape(file), didYouMean(m[1], names)+"; $${ is a plain ${", "the file %s of %s has ${%s}, which its instances are not told", file, name, m[1])
			}
		}
	}
	if part.Fixed && part.Instances > 1 {
		r.wrong(place("instances"), p+"/instances", "write instances: 1, or leave fixed-ports out", "%d instances of %s cannot have the same ports on one machine", part.Instances, name)
	}
}
