package source

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"

	"aditus/internal/config"
	"aditus/internal/signature"
)

// sshKey signs as ssh-keygen does.
type sshKey struct {
	ssh.Signer
	namespace string
}

func newSSH(t *testing.T, namespace string) (sshKey, string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return sshKey{signer, namespace}, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
}

// Sign implements git.Signer.
func (k sshKey) Sign(message io.Reader) ([]byte, error) {
	s, err := sshsig.Sign(message, k.Signer, sshsig.HashSHA512, k.namespace)
	if err != nil {
		return nil, err
	}
	return sshsig.Armor(s), nil
}

func newOpenPGP(t *testing.T, name string) (*openpgp.Entity, string) {
	t.Helper()
	entity, err := openpgp.NewEntity(name, "", "x@skerry.example", nil)
	if err != nil {
		t.Fatal(err)
	}
	var text bytes.Buffer
	w, err := armor.Encode(&text, openpgp.PublicKeyType, nil)
	if err == nil {
		err = errors.Join(entity.Serialize(w), w.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	return entity, text.String()
}

// TestSignedCommits looks at commits that are signed in every way that there is, and in none: only what one of the link's keys signed
// comes, and what was there stays.
func TestSignedCommits(t *testing.T) {
	ours, public := newSSH(t, "git")
	theirs, _ := newSSH(t, "git")
	elsewhere, elsewhereKey := newSSH(t, "file")
	entity, armoured := newOpenPGP(t, "Maren Oake")
	stranger, _ := newOpenPGP(t, "Maren Oake")
	signers := filepath.Join(t.TempDir(), "allowed")
	if err := os.WriteFile(signers, []byte("# who signs\nlars@skerry.example namespaces=\"git\" "+public+"\n\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, test := range map[string]struct {
		signed []string
		with   git.CommitOptions
		by     string // empty where it does not come
		want   string
	}{
		"nobody asks":            {by: "nobody"},
		"unsigned":               {signed: []string{public}, want: "which says that it is by Tove Lind, is not taken: it is not signed"},
		"by SSH":                 {signed: []string{armoured, public + " Lars"}, with: git.CommitOptions{Signer: ours}, by: "Lars"},
		"by an allowed signer":   {signed: []string{signers}, with: git.CommitOptions{Signer: ours}, by: "lars@skerry.example"},
		"by another key":         {signed: []string{public}, with: git.CommitOptions{Signer: theirs}, want: "signed by nobody whose keys are in the settings"},
		"for another purpose":    {signed: []string{elsewhereKey}, with: git.CommitOptions{Signer: elsewhere}, want: "does not hold"},
		"the key is for another": {signed: []string{`x namespaces="file" ` + public}, with: git.CommitOptions{Signer: ours}, want: "signed by nobody"},
		"not any more":           {signed: []string{`x valid-before="20200101Z" ` + public}, with: git.CommitOptions{Signer: ours}, want: "counts from"},
		"not yet":                {signed: []string{`x valid-after="20990101Z" ` + public}, with: git.CommitOptions{Signer: ours}, want: "counts from"},
		"by OpenPGP":             {signed: []string{public, armoured}, with: git.CommitOptions{SignKey: entity}, by: "Maren Oake"},
		"by one of that name":    {signed: []string{armoured}, with: git.CommitOptions{SignKey: stranger}, want: "signed by nobody"},
		"no key there":           {signed: []string{"/nowhere/keys"}, with: git.CommitOptions{Signer: ours}, want: "no such file"},
	} {
		r := newRepo(t)
		tree, _ := r.git.Worktree()
		r.commit("First", map[string]string{"workloads/a.yaml": "a: 1\n"})
		os.WriteFile(filepath.Join(r.folder, "workloads/a.yaml"), []byte("a: 2\n"), 0o600)
		tree.Add("workloads/a.yaml")
		o := test.with
		o.Author = &object.Signature{Name: "Tove Lind", When: time.Unix(1773300100, 0)}
		if _, err := tree.Commit("Next\n\n-----BEGIN SSH SIGNATURE-----\nnone\n", &o); err != nil {
			t.Fatal(err)
		}
		link := r.link()
		link.Signed = test.signed
		answer, err := Ask(t.Context(), link, Access{}, Seen{}, false)
		switch {
		case test.by == "nobody" && (err != nil || answer.Head.Signed != ""):
			t.Errorf("%s: signed by %q (%v)", name, answer.Head.Signed, err)
		case test.by != "nobody" && test.by != "" && (err != nil || answer.Files[0].Commit.Signed != test.by):
			t.Errorf("%s: %+v (%v), want it by %s", name, answer.Head, err, test.by)
		case test.by == "" && (err == nil || !strings.Contains(err.Error(), test.want)):
			t.Errorf("%s: %v, want %q", name, err, test.want)
		}
	}
}

// forge puts an object of another content under the signature of a commit, and gives its hash.
func (r *repo) forge(from string, change func(string) string) plumbing.Hash {
	r.t.Helper()
	old, err := r.git.Storer.EncodedObject(plumbing.CommitObject, plumbing.NewHash(from))
	if err != nil {
		r.t.Fatal(err)
	}
	reader, _ := old.Reader()
	text, _ := io.ReadAll(reader)
	forged := r.git.Storer.NewEncodedObject()
	forged.SetType(plumbing.CommitObject)
	w, _ := forged.Writer()
	changed := change(string(text))
	if changed == string(text) {
		r.t.Fatal("nothing is changed")
	}
	io.WriteString(w, changed)
	w.Close()
	hash, err := r.git.Storer.SetEncodedObject(forged)
	if err != nil {
		r.t.Fatal(err)
	}
	return hash
}

// TestForgedCommits changes what a signed commit says, and moves signatures and tags: none of it comes.
func TestForgedCommits(t *testing.T) {
	ours, public := newSSH(t, "git")
	r := newRepo(t)
	tree, _ := r.git.Worktree()
	commit := func(text string, o git.CommitOptions) string {
		r.t.Helper()
		os.MkdirAll(filepath.Join(r.folder, "workloads"), 0o700)
		os.WriteFile(filepath.Join(r.folder, "workloads/a.yaml"), []byte(text), 0o600)
		tree.Add("workloads/a.yaml")
		o.Author = &object.Signature{Name: "Tove Lind", When: time.Unix(1773300100, 0)}
		hash, err := tree.Commit("One", &o)
		if err != nil {
			t.Fatal(err)
		}
		return hash.String()
	}
	bad := commit("a: bad\n", git.CommitOptions{})
	badTree, _ := r.git.CommitObject(plumbing.NewHash(bad))
	good := commit("a: 1\n", git.CommitOptions{Signer: ours})
	signed, _ := r.git.CommitObject(plumbing.NewHash(good))
	for name, change := range map[string]func(string) string{
		"another tree": func(s string) string {
			return strings.Replace(s, signed.TreeHash.String(), badTree.TreeHash.String(), 1)
		},
		"another author":  func(s string) string { return strings.Replace(s, "Tove Lind", "Lars Moe", 1) },
		"another message": func(s string) string { return strings.Replace(s, "\n\nOne", "\n\nTwo", 1) },
		"one header more": func(s string) string { return strings.Replace(s, "\n\nOne", "\nencoding UTF-8\n\nOne", 1) },
		"two trees": func(s string) string {
			return "tree " + badTree.TreeHash.String() + "\n" + s
		},
		"two signatures": func(s string) string { return strings.Replace(s, "gpgsig ", "gpgsig none\ngpgsig ", 1) },
		"a signature that goes on": func(s string) string {
			return strings.Replace(s, "gpgsig ", "gpgsig none\n tree "+badTree.TreeHash.String()+"\ngpgsig ", 1)
		},
	} {
		hash := r.forge(good, change)
		r.ref("refs/heads/main", hash.String())
		link := r.link()
		link.Signed = []string{public}
		if answer, err := Ask(t.Context(), link, Access{}, Seen{}, false); !errors.Is(err, ErrUnsigned) {
			t.Errorf("%s: %+v (%v)", name, answer, err)
		}
	}
	for name, test := range map[string]struct {
		tag  string
		o    *git.CreateTagOptions
		at   string
		want bool
	}{
		"a signed commit":    {"v1", nil, good, true},
		"an unsigned commit": {"v2", nil, bad, false},
	} {
		if _, err := r.git.CreateTag(test.tag, plumbing.NewHash(test.at), test.o); err != nil {
			t.Fatal(err)
		}
		link := r.link()
		link.Branch, link.Tag, link.Signed = "", test.tag, []string{public}
		if _, err := Ask(t.Context(), link, Access{}, Seen{}, false); (err == nil) != test.want {
			t.Errorf("a tag of %s: %v", name, err)
		}
	}
	entity, armoured := newOpenPGP(t, "Maren Oake")
	tag, err := r.git.CreateTag("v3", plumbing.NewHash(bad), &git.CreateTagOptions{Tagger: &object.Signature{Name: "Maren Oake", When: time.Unix(1773300100, 0)}, Message: "three", SignKey: entity})
	if err != nil {
		t.Fatal(err)
	}
	r.ref("refs/tags/v4", tag.Hash().String())
	for name, want := range map[string]bool{"v3": true, "v4": false} { // a signed tag under another name vouches for nothing
		link := r.link()
		link.Branch, link.Tag, link.Signed = "", name, []string{armoured}
		if _, err := Ask(t.Context(), link, Access{}, Seen{}, false); (err == nil) != want {
			t.Errorf("the tag %s: %v", name, err)
		}
	}
}

// TestSignedByGit has Git itself sign, with ssh-keygen and gpg, where they are.
func TestSignedByGit(t *testing.T) {
	home := t.TempDir()
	run := func(folder, name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Dir, cmd.Env = folder, append(os.Environ(), "HOME="+home, "GNUPGHOME="+home, "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s %s: %v", name, args, err)
		}
		return string(out)
	}
	for _, way := range []string{"ssh", "openpgp"} {
		if _, err := exec.LookPath(map[string]string{"ssh": "ssh-keygen", "openpgp": "gpg"}[way]); err != nil {
			t.Logf("not tried with %s: %v", way, err)
			continue
		}
		key, public := "Lars Moe", ""
		if way == "ssh" {
			key = filepath.Join(home, "key")
			run(home, "ssh-keygen", "-q", "-t", "ecdsa", "-N", "", "-C", "Lars Moe", "-f", key)
			public = key + ".pub"
		} else {
			os.Chmod(home, 0o700)
			run(home, "gpg", "--batch", "--passphrase", "", "--quick-gen-key", key, "default", "default", "never")
			public = run(home, "gpg", "--armor", "--export", key)
			defer run(home, "gpgconf", "--kill", "gpg-agent")
		}
		r := newRepo(t)
		r.commit("First", map[string]string{"workloads/a.yaml": "a: 1\n"})
		run(r.folder, "git", "-c", "user.name=Tove Lind", "-c", "user.email=x@skerry.example", "-c", "gpg.format="+way, "-c", "user.signingkey="+key, "commit", "-q", "--allow-empty", "-S", "-m", "Signed\n\nby Git")
		link := r.link()
		link.Signed = []string{public}
		if answer, err := Ask(t.Context(), link, Access{}, Seen{}, false); err != nil || answer.Head.Signed != "Lars Moe" {
			t.Errorf("%s: signed by %q (%v)", way, answer.Head.Signed, err)
		}
	}
}

// certified makes a certificate for signing code with its key, as files; by signs it, or nobody else.
func certified(t *testing.T, name string, until time.Time) (key, certificate string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name, Country: []string{"NO"}, Organization: []string{"Skerry Line"}},
		NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: until, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning}, BasicConstraintsValid: true,
	}
	der, err1 := x509.CreateCertificate(rand.Reader, template, template, private.Public(), crypto.Signer(private))
	pkcs8, err2 := x509.MarshalPKCS8PrivateKey(private)
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	key, certificate = filepath.Join(folder, "key.pem"), filepath.Join(folder, "certificate.pem")
	err1 = os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}), 0o600)
	err2 = os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	return key, certificate
}

// TestSignedArtifacts signs a bundle and an image, and asks for signatures of both: only what the listed certificate signed comes.
func TestSignedArtifacts(t *testing.T) {
	r, host := registryAt(t, nil)
	key, certificate := certified(t, "Skerry builds", time.Now().Add(time.Hour))
	strangerKey, stranger := certified(t, "Skerry builds", time.Now().Add(time.Hour))
	endedKey, ended := certified(t, "Skerry builds", time.Now().Add(-time.Hour))
	place := "oci://" + host + "/line/base"
	digests := map[string]string{}
	for _, version := range []string{"1.0.0", "1.1.0", "1.2.0", "1.3.0"} {
		digest, err := r.Push(t.Context(), place, madeUp.with(version, map[string]string{"web.yaml": "version: " + version}))
		if err != nil {
			t.Fatal(err)
		}
		digests[version] = digest
	}
	sign := func(version, key, certificate string) {
		t.Helper()
		signer, err := signature.OpenSigner(key, certificate)
		if err == nil {
			err = r.Sign(t.Context(), host+"/line/base@"+digests[version], signer)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	sign("1.1.0", strangerKey, stranger)
	sign("1.1.0", key, certificate) // one that counts among others
	sign("1.2.0", strangerKey, stranger)
	for version, want := range map[string]string{"1.0.0": "it is not signed", "1.1.0": "", "1.2.0": "signed by nobody whose keys"} {
		link := config.Link{Name: "base", Repository: place, Version: version, Plain: true, Every: time.Minute, Signed: []string{certificate}}
		answer, err := Ask(t.Context(), link, Access{}, Seen{}, false)
		if want == "" && (err != nil || answer.Head.Signed != "Skerry builds" || answer.Files[0].Commit.Signed != "Skerry builds") {
			t.Errorf("the bundle %s: %+v (%v)", version, answer.Head, err)
		}
		if want != "" && (!errors.Is(err, ErrUnsigned) || !strings.Contains(err.Error(), want)) {
			t.Errorf("the bundle %s: %v, want %q", version, err, want)
		}
		reference := host + "/line/base:" + version
		asking := NewRegistries(map[string]config.Registry{host: {Plain: true, Signed: []string{certificate}}}, nil)
		for range 2 { // what is not taken is not taken the next time either
			problem := asking.Resolve(t.Context(), []string{reference}).Problems[reference]
			if want == "" && problem != nil || want != "" && (problem == nil || !strings.Contains(problem.Error(), want)) {
				t.Errorf("the artifact %s: %v, want %q", version, problem, want)
			}
		}
		asking.Pin(reference + "@" + digests[version]) // as it was taken once, before signatures were asked for
		if _, refused := asking.Resolve(t.Context(), []string{reference}).Problems[reference]; refused != (want != "") {
			t.Errorf("the artifact %s that was taken before: refused is %v", version, refused)
		}
	}
	if signer, err := signature.OpenSigner(endedKey, ended); err == nil {
		if err := r.Sign(t.Context(), host+"/line/base@"+digests["1.3.0"], signer); err == nil {
			t.Error("a certificate that ended signs")
		}
	}
	// A signature that is moved to another artifact vouches for nothing there.
	keys, err := signature.Read([]string{certificate})
	signer, err2 := signature.OpenSigner(key, certificate)
	if err := errors.Join(err, err2); err != nil {
		t.Fatal(err)
	}
	envelope, mediaType, _, err := signer.Sign(signature.Target{MediaType: "x/y", Digest: digests["1.0.0"], Size: 1}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := keys.Artifact(digests["1.3.0"], mediaType, envelope, time.Now()); err == nil || !strings.Contains(err.Error(), "of another artifact") {
		t.Errorf("moved: %v", err)
	}
	if by, err := keys.Artifact(digests["1.0.0"], mediaType, envelope, time.Now()); err != nil || by != "Skerry builds" {
		t.Errorf("in its place: %q (%v)", by, err)
	}
	if _, err := keys.Artifact(digests["1.0.0"], mediaType, envelope, time.Now().Add(2*time.Hour)); err == nil {
		t.Error("it holds after its certificate ended")
	}
}
