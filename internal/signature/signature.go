// Package signature tells who signed a commit or an artifact. Commits are signed with SSH (PROTOCOL.sshsig of OpenSSH) or OpenPGP
// (RFC 9580), as Git does it; artifacts with X.509 certificates, by the signature specification of the Notary Project, whose envelopes
// are JWS (RFC 7515) and COSE (RFC 9052).
package signature

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"golang.org/x/crypto/ssh"
)

// Keys are whose signatures count.
type Keys struct {
	ssh          []sshKey
	openPGP      openpgp.EntityList
	certificates []*x509.Certificate
}

type sshKey struct {
	name        string
	key         ssh.PublicKey
	after, till time.Time // zero for without an end
}

// What is wrong with what should be signed. Each comes within a sentence that says what.
var (
	ErrUnsigned = errors.New("it is not signed")
	ErrUnknown  = errors.New("it is signed by nobody whose keys are in the settings")
)

// maxKeys bounds a file of keys.
const maxKeys = 1 << 20

// Read reads keys: each is the name of a file, or the key itself. There are public keys of SSH, also as ssh-keygen's list of allowed
// signers, armoured public keys of OpenPGP, and X.509 certificates in PEM.
func Read(sources []string) (Keys, error) {
	var k Keys
	for _, source := range sources {
		text, what := []byte(source), "the key"
		if filepath.IsAbs(source) {
			info, err := os.Stat(source)
			if err != nil {
				return Keys{}, fmt.Errorf("keys to sign with: %w", err)
			}
			if !info.Mode().IsRegular() || info.Size() > maxKeys {
				return Keys{}, fmt.Errorf("keys to sign with: %s is no file of keys of at most %d KB", source, maxKeys>>10)
			}
			if text, err = os.ReadFile(source); err != nil {
				return Keys{}, fmt.Errorf("keys to sign with: %w", err)
			}
			what = source
		}
		if err := k.read(text); err != nil {
			return Keys{}, fmt.Errorf("keys to sign with: %s: %w", what, err)
		}
	}
	return k, nil
}

const shape = "write a public key of SSH such as “ssh-ed25519 AAAA… NAME”, an armoured public key of OpenPGP, a certificate in PEM, or the whole path of a file that has some"

func (k *Keys) read(text []byte) error {
	text = bytes.TrimSpace(text)
	if !bytes.HasPrefix(text, []byte("-----BEGIN ")) {
		return k.readSSH(string(text))
	}
	if bytes.HasPrefix(text, []byte("-----BEGIN PGP ")) {
		list, err := openpgp.ReadArmoredKeyRing(bytes.NewReader(text))
		if err != nil {
			return fmt.Errorf("%w; %s", err, shape)
		}
		k.openPGP = append(k.openPGP, list...)
		return nil
	}
	for len(text) > 0 {
		block, rest := pem.Decode(text)
		if block == nil || block.Type != "CERTIFICATE" {
			return fmt.Errorf("that is no certificate; %s", shape)
		}
		certificate, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return err
		}
		k.certificates, text = append(k.certificates, certificate), bytes.TrimSpace(rest)
	}
	return nil
}

// readSSH reads lines of public keys, and of allowed signers: PRINCIPALS [OPTIONS] TYPE KEY.
func (k *Keys) readSSH(text string) error {
	found := 0
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		own := sshKey{}
		key, comment, options, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if first, rest, more := strings.Cut(line, " "); more && (err != nil || len(options) > 0) { // principals come first
			key, _, options, _, err = ssh.ParseAuthorizedKey([]byte(strings.TrimSpace(rest)))
			comment = strings.Trim(first, `"`)
		}
		if err != nil {
			return fmt.Errorf("%q is no key; %s", cut(line), shape)
		}
		own.name, own.key = comment, key
		counts := true
		for _, option := range options {
			name, value, _ := strings.Cut(option, "=")
			value = strings.Trim(value, `"`)
			switch strings.ToLower(name) {
			case "namespaces":
				counts = false
				for _, namespace := range strings.Split(value, ",") {
					counts = counts || namespace == gitNamespace
				}
			case "valid-after":
				own.after, err = moment(value)
			case "valid-before":
				own.till, err = moment(value)
			default:
				return fmt.Errorf("the option %s of an allowed signer is not understood here; list each key by itself", name)
			}
			if err != nil {
				return err
			}
		}
		found++
		if counts {
			k.ssh = append(k.ssh, own)
		}
	}
	if found == 0 {
		return errors.New("there is none; " + shape)
	}
	return nil
}

// moment reads a moment as ssh-keygen writes it: YYYYMMDD[HHMM[SS]][Z].
func moment(text string) (time.Time, error) {
	place := time.Local
	if bare, utc := strings.CutSuffix(text, "Z"); utc {
		text, place = bare, time.UTC
	}
	for _, layout := range []string{"20060102", "200601021504", "20060102150405"} {
		if at, err := time.ParseInLocation(layout, text, place); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no moment; write it like 20270131Z", text)
}

func cut(line string) string {
	if len(line) > 40 {
		return line[:40] + "…"
	}
	return line
}
