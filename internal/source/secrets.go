package source

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/armor"

	"aditus/internal/disk"
)

// keyDisk is what keys and credentials are kept on.
var keyDisk = disk.Machine

// ErrNoKeyHere means that no key at all is at hand, so that nobody can tell whether a secret opens.
var ErrNoKeyHere = errors.New("no key is at hand here to open it")

// ErrNoKey means that none of the keys opens a secret.
var ErrNoKey = errors.New("no key here opens it")

// Opener opens secrets with the keys of a data folder.
type Opener struct {
	identities []age.Identity
	recipient  *age.X25519Recipient
	mark       []byte // key of the fingerprints

	mu   sync.Mutex
	seen map[string]string // fingerprints by ciphertext
}

// KeyFile is the name of the key within a data folder.
const KeyFile = "key.txt"

// OpenKey reads the key of a data folder, and makes one where there is none. The file is the owner's alone; one that
// others can read is refused.
func OpenKey(folder string) (*Opener, error) {
	name := filepath.Join(folder, KeyFile)
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, fmt.Errorf("make a key: %w", err)
		}
		text := fmt.Sprintf("# The key of this Aditus. Whoever has it can read its credentials and secrets.\n# public key: %s\n%s\n", identity.Recipient(), identity)
		if err := disk.KeepNew(keyDisk, name, []byte(text), 0o600); err != nil {
			return nil, fmt.Errorf("keep the key: %w", err)
		}
		return newOpener(identity), nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the key: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key %s can be read by others: chmod 600 it, and think about who may have read it", name)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("read the key: %w", err)
	}
	identities, err := age.ParseIdentities(bytes.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("read the key %s: it is no age identity; put it back from a copy, or move it away and give the credentials again", name)
	}
	own, ok := identities[0].(*age.X25519Identity)
	if !ok {
		return nil, fmt.Errorf("read the key %s: the first key must be an X25519 one", name)
	}
	o := newOpener(own)
	o.identities = identities
	return o, nil
}

func newOpener(own *age.X25519Identity) *Opener {
	mark := sha256.Sum256([]byte("aditus fingerprint " + own.String()))
	return &Opener{identities: []age.Identity{own}, recipient: own.Recipient(), mark: mark[:], seen: map[string]string{}}
}

// Recipient is the public key that secrets are sealed for.
func (o *Opener) Recipient() string { return o.recipient.String() }

// Place is where a secret belongs: to a key of a part of a workload.
type Place struct{ Workload, Part, Key string }

// String implements fmt.Stringer.
func (p Place) String() string { return p.Workload + "/" + p.Part + "/" + p.Key }

// ReadPlace reads WORKLOAD/PART/KEY.
func ReadPlace(text string) (Place, bool) {
	workload, rest, _ := strings.Cut(text, "/")
	part, key, ok := strings.Cut(rest, "/")
	return Place{workload, part, key}, ok && workload != "" && part != "" && key != "" && !strings.ContainsAny(text, "\n\x00")
}

// placed begins what is sealed for a place; the place, a line's end and the value follow.
const placed = "aditus secret of "

// SealFor encrypts a value that opens at a place alone, for recipients; without any, for the key itself.
func (o *Opener) SealFor(place Place, plain string, recipients ...string) (string, error) {
	return o.Seal(placed+place.String()+"\n"+plain, recipients...)
}

// unplaced takes the place off what was sealed for one; nil where it was sealed for none.
func unplaced(text string) (value string, place *Place) {
	line, value, ok := strings.Cut(text, "\n")
	if rest, is := strings.CutPrefix(line, placed); ok && is {
		if p, ok := ReadPlace(rest); ok {
			return value, &p
		}
	}
	return text, nil
}

// May tells why a sealed value is not to be used at a place: it was sealed for another one, or for none where only those are that were
// sealed for theirs. A repository could have it from another one.
func (o *Opener) May(sealed string, at Place, only bool) error {
	if o == nil {
		return nil
	}
	text, err := o.open(sealed)
	if err != nil {
		return err
	}
	switch _, place := unplaced(text); {
	case place == nil && only:
		return fmt.Errorf("it is not sealed for a place, and this repository is not the only one: seal it for this one with: aditus secret seal --for %s, or all of a folder with: aditus secret bind", at)
	case place != nil && *place != at:
		return fmt.Errorf("it is sealed for %s, and not for %s", place, at)
	}
	return nil
}

// Open gives the value that a sealed text holds.
func (o *Opener) Open(sealed string) (string, error) {
	text, err := o.open(sealed)
	if err != nil {
		return "", err
	}
	value, _ := unplaced(text)
	return value, nil
}

func (o *Opener) open(sealed string) (string, error) {
	if o == nil {
		return "", ErrNoKeyHere
	}
	plain, err := age.Decrypt(armor.NewReader(strings.NewReader(strings.TrimSpace(sealed)+"\n")), o.identities...)
	var none *age.NoIdentityMatchError
	switch {
	case errors.As(err, &none):
		return "", ErrNoKey
	case err != nil:
		return "", errors.New("it is not encrypted with age, or was damaged")
	}
	text, err := io.ReadAll(io.LimitReader(plain, maxFileSize))
	if err != nil {
		return "", errors.New("it was damaged")
	}
	return string(text), nil
}

// Fingerprint tells a secret's value apart from others without telling it. Whoever lacks the key cannot try values
// against it.
func (o *Opener) Fingerprint(sealed string) (string, error) {
	if o == nil {
		sum := sha256.Sum256([]byte(sealed))
		return "sealed " + hex.EncodeToString(sum[:5]), ErrNoKeyHere
	}
	o.mu.Lock()
	known, ok := o.seen[sealed]
	o.mu.Unlock()
	if ok {
		return known, nil
	}
	plain, err := o.Open(sealed)
	if err != nil {
		return "", err
	}
	fingerprint := o.Mark(plain)
	o.mu.Lock()
	o.seen[sealed] = fingerprint
	o.mu.Unlock()
	return fingerprint, nil
}

// Mark is the fingerprint of a value that is open.
func (o *Opener) Mark(plain string) string {
	sum := hmac.New(sha256.New, o.mark)
	io.WriteString(sum, plain)
	return "secret " + hex.EncodeToString(sum.Sum(nil)[:5])
}

// Seal encrypts a text for recipients; without any, for the key itself.
func (o *Opener) Seal(plain string, recipients ...string) (string, error) {
	to := []age.Recipient{o.recipient}
	if len(recipients) > 0 {
		to = nil
	}
	for _, text := range recipients {
		r, err := age.ParseX25519Recipient(text)
		if err != nil {
			return "", fmt.Errorf("%q is no public key of age; it starts with age1", text)
		}
		to = append(to, r)
	}
	var out bytes.Buffer
	shield := armor.NewWriter(&out)
	w, err := age.Encrypt(shield, to...)
	if err == nil {
		_, err = io.WriteString(w, plain)
		err = errors.Join(err, w.Close(), shield.Close())
	}
	return out.String(), err
}

// credentialsFile is where a data folder keeps credentials, encrypted.
const credentialsFile = "credentials.age"

// Credentials gives what was kept, by link.
func (o *Opener) Credentials(folder string) (map[string]Credential, error) {
	kept := map[string]Credential{}
	sealed, err := os.ReadFile(filepath.Join(folder, credentialsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return kept, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the credentials: %w", err)
	}
	plain, err := o.Open(string(sealed))
	if err == nil {
		err = json.Unmarshal([]byte(plain), &kept)
	}
	if err != nil {
		return nil, fmt.Errorf("read the credentials in %s: %w; put %s back from a copy, or remove the file and give them again", filepath.Join(folder, credentialsFile), err, KeyFile)
	}
	return kept, nil
}

// KeepCredential keeps a link's credential, or forgets it where it is nil.
func (o *Opener) KeepCredential(folder, link string, c *Credential) error {
	return disk.Alone(folder, func() error { return o.keepCredential(folder, link, c) })
}

func (o *Opener) keepCredential(folder, link string, c *Credential) error {
	kept, err := o.Credentials(folder)
	if err != nil {
		return err
	}
	if delete(kept, link); c != nil {
		kept[link] = *c
	}
	plain, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	sealed, err := o.Seal(string(plain))
	if err != nil {
		return err
	}
	name := filepath.Join(folder, credentialsFile)
	if err := disk.Keep(keyDisk, name, []byte(sealed), 0o600); err != nil {
		return fmt.Errorf("keep the credential: %w", err)
	}
	return nil
}
