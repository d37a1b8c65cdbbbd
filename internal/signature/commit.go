package signature

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/hiddeco/sshsig"
)

// gitNamespace is what Git signs for with SSH.
const gitNamespace = "git"

// Commit tells who signed a commit, or an annotated tag, of which it takes the object as Git has it, without its head.
func (k Keys) Commit(object []byte, now time.Time) (by string, err error) {
	payload, armoured, err := split(object)
	switch {
	case err != nil:
		return "", err
	case strings.HasPrefix(armoured, "-----BEGIN SSH SIGNATURE-----"):
		return k.bySSH(payload, armoured, now)
	case strings.HasPrefix(armoured, "-----BEGIN PGP "):
		return k.byOpenPGP(payload, armoured, now)
	case armoured == "":
		return "", ErrUnsigned
	}
	return "", fmt.Errorf("%w: the signature is neither of SSH nor of OpenPGP", ErrUnknown)
}

// split parts an object of Git from its signature: the header gpgsig of a commit, with the lines that go on with a space; the end of an
// annotated tag.
func split(object []byte) (payload []byte, armoured string, err error) {
	if bytes.HasPrefix(object, []byte("object ")) {
		for _, begin := range []string{"\n-----BEGIN SSH SIGNATURE-----\n", "\n-----BEGIN PGP SIGNATURE-----\n"} {
			if at := bytes.LastIndex(object, []byte(begin)); at >= 0 {
				return object[:at+1], string(object[at+1:]), nil
			}
		}
		return object, "", nil
	}
	head, message, _ := bytes.Cut(object, []byte("\n\n"))
	within, signatures := false, 0
	for line := range bytes.Lines(append(bytes.Clone(head), '\n')) {
		first, has := bytes.CutPrefix(line, []byte("gpgsig "))
		switch more, goesOn := bytes.CutPrefix(line, []byte(" ")); {
		case has:
			signatures++
			within, armoured = true, string(first)
		case within && goesOn:
			armoured += string(more)
		default:
			within = false
			payload = append(payload, line...)
		}
	}
	if signatures > 1 {
		return nil, "", errors.New("it has more than one signature")
	}
	return append(append(payload, '\n'), message...), armoured, nil
}

func (k Keys) bySSH(payload []byte, armoured string, now time.Time) (string, error) {
	s, err := sshsig.Unarmor([]byte(armoured))
	if err != nil {
		return "", fmt.Errorf("its signature cannot be read: %w", err)
	}
	for _, own := range k.ssh {
		if !bytes.Equal(own.key.Marshal(), s.PublicKey.Marshal()) {
			continue
		}
		if err := sshsig.Verify(bytes.NewReader(payload), s, own.key, s.HashAlgorithm, gitNamespace); err != nil {
			return "", fmt.Errorf("its signature by %s does not hold: %w", own.name, err)
		}
		if now.Before(own.after) || !own.till.IsZero() && !now.Before(own.till) {
			return "", fmt.Errorf("%w: the key of %s counts from %s to %s only", ErrUnknown, own.name, own.after.Format(time.DateOnly), own.till.Format(time.DateOnly))
		}
		return own.name, nil
	}
	return "", ErrUnknown
}

func (k Keys) byOpenPGP(payload []byte, armoured string, now time.Time) (string, error) {
	entity, err := openpgp.CheckArmoredDetachedSignature(k.openPGP, bytes.NewReader(payload), strings.NewReader(armoured), &packet.Config{Time: func() time.Time { return now }})
	if err != nil {
		return "", fmt.Errorf("%w (%v)", ErrUnknown, err)
	}
	if identity := entity.PrimaryIdentity(); identity != nil {
		return cmp.Or(identity.UserId.Name, identity.Name), nil
	}
	return fmt.Sprintf("the key %X", entity.PrimaryKey.Fingerprint), nil
}
