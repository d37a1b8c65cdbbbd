package cluster

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"

	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
)

// inventory is what was ever put there of a part of objects and was not taken away again, kept in a ConfigMap of its own: what
// of it no revision has is an orphan.
type inventory struct {
	place
	part    string
	objects map[string]reference // by ID
}

// reference is what an object is found again by.
type reference struct {
	Version   string `json:"apiVersion"`
	Kind      string `json:"kind"`
	Name      string `json:"name"`
	Namespace string `json:"namespace,omitempty"`
	Keep      bool   `json:"keep,omitempty"`  // it is never taken away by itself
	Taken     bool   `json:"taken,omitempty"` // it was there before us, so that it is not ours to take away either
}

// stays tells whether it is never taken away.
func (r reference) stays() bool { return r.Keep || r.Taken }

// object is the reference in the form of an object.
func (r reference) object() declare.Object {
	metadata := object{"name": r.Name}
	if r.Namespace != "" {
		metadata["namespace"] = r.Namespace
	}
	return declare.Object{"apiVersion": r.Version, "kind": r.Kind, "metadata": metadata}
}

func referenceTo(o declare.Object) reference {
	return reference{Version: declare.TextAt(o, "apiVersion"), Kind: declare.TextAt(o, "kind"), Name: declare.TextAt(o, "metadata", "name"), Namespace: declare.TextAt(o, "metadata", "namespace"), Keep: declare.Kept(o)}
}

const (
	recordInventory = "objects"
	inventoryKey    = "objects.json"
	mostRecord      = 1 << 20 // of a ConfigMap, by the API
)

func inventoryName(workload, part string) string { return join("aditus", workload, part, "objects") }

// inventory reads that of a part; an empty one where there is none.
func (s *Site) inventory(workload, part string) inventory {
	i := inventory{place: s.place(workload), part: part, objects: map[string]reference{}}
	if o := s.connection.mirror.get(configMaps, s.Namespace, inventoryName(workload, part)); o != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		last := s.accounts[o.GetName()]
		if version := string(o.GetUID()) + "/" + o.GetResourceVersion(); last.version != version {
			text, _, _ := unstructured.NestedString(o.Object, "data", inventoryKey)
			last = readInventory{version, map[string]reference{}}
			json.Unmarshal([]byte(text), &last.objects) // what cannot be read there is nobody's any more
			if last.objects == nil {                    // null was written there
				last.objects = map[string]reference{}
			}
			s.accounts[o.GetName()] = last
		}
		i.objects = maps.Clone(last.objects)
	}
	return i
}

// readInventory is what an inventory's ConfigMap had as of a version.
type readInventory struct {
	version string
	objects map[string]reference
}

// keepInventory writes one; an empty one is taken away.
func (s *Site) keepInventory(ctx context.Context, i inventory) error {
	name := inventoryName(i.workload, i.part)
	if len(i.objects) == 0 {
		if o := s.connection.mirror.get(configMaps, s.Namespace, name); o != nil {
			return s.connection.remove(ctx, configMaps, o)
		}
		return nil
	}
	text, err := json.Marshal(i.objects)
	if err != nil {
		return err
	}
	if len(text) > mostRecord {
		return fmt.Errorf("%s has %d objects, more than can be kept account of: split it into several parts", i.part, len(i.objects))
	}
	o := i.made("v1", "ConfigMap", name, object{labelWorkload: i.workload, labelPart: i.part, labelRecord: recordInventory})
	o["metadata"].(object)["annotations"] = object{annotationLine: s.Line}
	o["data"] = object{inventoryKey: string(text)}
	_, err = s.connection.apply(ctx, o)
	return err
}

// alsoAt names another site on the same cluster that has an object too, which can be where it is of the whole cluster; empty for
// none.
func (s *Site) alsoAt(k kind, workload, part, id string) string {
	if !k.cluster {
		return ""
	}
	s.connection.mu.Lock()
	sites := slices.Clone(s.connection.sites)
	s.connection.mu.Unlock()
	for _, other := range sites {
		if _, has := other.inventory(workload, part).objects[id]; has && other != s {
			return other.Name
		}
	}
	return ""
}

// orphans are the objects of a workload's inventory of a part that no revision has.
func (i inventory) orphans(records map[declare.Fingerprint]*record) (ids []string) {
	for _, id := range slices.Sorted(maps.Keys(i.objects)) {
		if !slices.ContainsFunc(slices.Collect(maps.Values(records)), func(r *record) bool { _, has := r.parts[i.part].Objects[id]; return has }) {
			ids = append(ids, id)
		}
	}
	return ids
}

// form tells one form of an object from another.
func form(o declare.Object) string {
	text, err := json.Marshal(o)
	if err != nil {
		return "" // what was read from JSON is written as JSON
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:8])
}

// packed are the objects of a record's parts, as they stand in its ConfigMap.
func packed(parts map[string]placed) (string, error) {
	all := map[string]map[string]declare.Object{}
	for name, part := range parts {
		if len(part.Objects) > 0 {
			all[name] = part.Objects
		}
	}
	if len(all) == 0 {
		return "", nil
	}
	text, err := zip(all)
	if err != nil {
		return "", err
	}
	if len(text) > mostRecord {
		return "", fmt.Errorf("its objects take %d bytes when packed, and a cluster keeps %d of them in one record: split the workload into several", len(text), mostRecord)
	}
	return text, nil
}

// zip packs a value as a ConfigMap's binaryData has it.
func zip(value any) (string, error) {
	var out bytes.Buffer
	to := gzip.NewWriter(&out)
	err := json.NewEncoder(to).Encode(value)
	if err = errors.Join(err, to.Close()); err != nil {
		return "", err
	}
	return base64.StdEncoding.EncodeToString(out.Bytes()), nil
}

// unzip reads a packed value.
func unzip(text string, into any) error {
	packed, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return err
	}
	from, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	return json.NewDecoder(io.LimitReader(from, mostUnpacked)).Decode(into)
}

// mostUnpacked bounds what a record's objects become.
const mostUnpacked = 64 << 20

// unpacked reads them.
func unpacked(text string) (all map[string]map[string]declare.Object, err error) {
	if err := unzip(text, &all); err != nil {
		return nil, err
	}
	for _, objects := range all {
		for id, o := range objects {
			if declare.TextAt(o, "metadata", "name") == "" || declare.ObjectID(o) != id {
				return nil, fmt.Errorf("%s is not what stands there", id)
			}
		}
	}
	return all, nil
}
