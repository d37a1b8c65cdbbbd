package declare

// Merge lays a site's small file over the base, by the rules of JSON Merge Patch (RFC 7386): mappings are merged key by
// key, null takes a key away, anything else replaces what was there. It is written here because a library's merge knows
// nothing of files and lines, and a problem must be told at the place where it was written.
func Merge(base, patch Node) Node {
	if patch.Kind != Map {
		return patch
	}
	merged := base
	if base.Kind != Map {
		merged = Node{Kind: Map, File: patch.File, Line: patch.Line, Column: patch.Column}
	}
	at := make(map[string]int, len(merged.Entries))
	entries := make([]Entry, 0, len(merged.Entries)+len(patch.Entries))
	for _, entry := range merged.Entries {
		at[entry.Key.Text] = len(entries)
		entries = append(entries, entry)
	}
	gone := map[string]bool{}
	for _, entry := range patch.Entries {
		key := entry.Key.Text
		i, there := at[key]
		switch {
		case entry.Value.Kind == Null:
			gone[key] = there
		case there:
			entries[i].Value = Merge(entries[i].Value, entry.Value)
		default:
			entries = append(entries, Entry{Key: entry.Key, Value: Merge(Node{}, entry.Value)})
		}
	}
	merged.Entries = entries[:0]
	for _, entry := range entries {
		if !gone[entry.Key.Text] {
			merged.Entries = append(merged.Entries, entry)
		}
	}
	return merged
}
