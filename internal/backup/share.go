package backup

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"aditus/internal/config"
	"aditus/internal/core/fault"
	"aditus/internal/disk"
	"aditus/internal/ledger"
)

// shared are the files that all servers of a ledger have alike. The key is not among them: credentials are sealed for it, and it never
// goes where the ledger is.
var shared = []string{config.FileName, "credentials.age", "tokens.json"}

// sharedState is the file of a data folder that says which of what is on record each of them is, or was before it was changed here.
const sharedState = "shared.json"

// onRecord is a file as the ledger keeps it.
type onRecord struct {
	Sum     string `json:"sha256"`
	Content []byte `json:"content"`
}

// Share makes what servers of a ledger have alike so. A file that was changed at the one that leads goes on record; else what is on
// record goes into the data folder. What was changed where it is not kept stays beside it: aside names those files.
func Share(ctx context.Context, folder string, book *ledger.Ledger, leads bool, now time.Time) (aside []string, err error) {
	state := filepath.Join(folder, sharedState)
	was := map[string]string{}
	text, err := os.ReadFile(state)
	if err == nil {
		err = json.Unmarshal(text, &was)
	}
	if err != nil {
		was = map[string]string{} // whatever differs was changed here then
	}
	noted := false
	for _, name := range shared {
		sum, put, err := share(ctx, filepath.Join(folder, name), was[name], book, leads, now)
		if err != nil {
			return aside, fmt.Errorf("share %s with the other servers: %w", name, err)
		}
		if put != "" {
			aside = append(aside, put)
		}
		if sum != was[name] {
			was[name], noted = sum, true
		}
	}
	if !noted {
		return aside, nil
	}
	if text, err = json.Marshal(was); err == nil {
		err = disk.Keep(disk.Machine, state, text, 0o600)
	}
	return aside, err
}

// share shares one file, which was as on record under a sum when it was last looked at.
func share(ctx context.Context, name, was string, book *ledger.Ledger, leads bool, now time.Time) (sum, aside string, err error) {
	own, err := os.ReadFile(name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return was, "", err
	}
	there := err == nil
	mine := ""
	if there {
		mine = sumOf(own)
	}
	var kept onRecord
	picture := ledger.FilePicture + filepath.Base(name)
	if _, err := book.Picture(picture, &kept); err != nil && !errors.Is(err, fault.ErrNotFound) {
		return was, "", err
	}
	switch {
	case mine == kept.Sum:
		return mine, "", nil
	case there && leads && kept.Sum == was:
		return mine, "", book.KeepPicture(ctx, picture, now, onRecord{mine, own})
	case kept.Sum == "":
		return was, "", nil // whoever leads has not put it on record yet
	case sumOf(kept.Content) != kept.Sum:
		return was, "", fmt.Errorf("what is on record of it is damaged")
	}
	if there && mine != was {
		aside = name + ".before-" + now.UTC().Format("20060102T150405Z")
		if err := disk.Keep(disk.Machine, aside, own, 0o600); err != nil {
			return was, "", err
		}
	}
	return kept.Sum, aside, disk.Keep(disk.Machine, name, kept.Content, 0o600)
}

func sumOf(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}
