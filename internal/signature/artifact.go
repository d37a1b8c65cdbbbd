package signature

import (
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"time"

	notary "github.com/notaryproject/notation-core-go/signature"
	"github.com/notaryproject/notation-core-go/signature/cose"
	"github.com/notaryproject/notation-core-go/signature/jws"
)

// Of the signature specification of the Notary Project, 1.1.
const (
	ArtifactType   = "application/vnd.cncf.notary.signature" // of the manifest that has a signature
	payloadType    = "application/vnd.cncf.notary.payload.v1+json"
	AnnotationSums = "io.cncf.notary.x509chain.thumbprint#S256" // of that manifest: the SHA-256 of each certificate
)

// EnvelopeTypes are the media types of signatures that are understood.
var EnvelopeTypes = []string{jws.MediaTypeEnvelope, cose.MediaTypeEnvelope}

// Target is what a signature is of: a descriptor of the OCI.
type Target struct {
	MediaType string `json:"mediaType"`
	Digest    string `json:"digest"`
	Size      int64  `json:"size"`
}

type payload struct {
	Target Target `json:"targetArtifact"`
}

// Artifact tells who signed an artifact of which it takes the digest.
func (k Keys) Artifact(digest, mediaType string, envelope []byte, now time.Time) (by string, err error) {
	parsed, err := notary.ParseEnvelope(mediaType, envelope)
	if err != nil {
		return "", fmt.Errorf("its signature cannot be read: %w", err)
	}
	content, err := parsed.Verify()
	if err != nil {
		return "", fmt.Errorf("its signature does not hold: %w", err)
	}
	var of payload
	signer := &content.SignerInfo
	attributes := signer.SignedAttributes
	switch err := json.Unmarshal(content.Payload.Content, &of); {
	case content.Payload.ContentType != payloadType || err != nil:
		return "", errors.New("its signature is of nothing that is known")
	case of.Target.Digest != digest:
		return "", fmt.Errorf("its signature is of another artifact, %s", of.Target.Digest)
	case attributes.SigningScheme != notary.SigningSchemeX509:
		return "", fmt.Errorf("its signature is by the scheme %q, which is not known here", attributes.SigningScheme)
	case !attributes.Expiry.IsZero() && !now.Before(attributes.Expiry):
		return "", fmt.Errorf("its signature ended on %s", attributes.Expiry.Format(time.DateOnly))
	}
	for _, attribute := range attributes.ExtendedAttributes {
		if attribute.Critical {
			return "", fmt.Errorf("its signature has a condition that is not known here, %v", attribute.Key)
		}
	}
	if _, err := notary.VerifyAuthenticity(signer, k.certificates); err != nil {
		return "", ErrUnknown
	}
	for _, c := range signer.CertificateChain {
		if now.Before(c.NotBefore) || now.After(c.NotAfter) {
			return "", fmt.Errorf("its signature is by the certificate of %s, which counts from %s to %s", c.Subject.CommonName, c.NotBefore.Format(time.DateOnly), c.NotAfter.Format(time.DateOnly))
		}
	}
	return signer.CertificateChain[0].Subject.CommonName, nil
}

// Signer signs artifacts.
type Signer struct {
	chain []*x509.Certificate
	key   crypto.PrivateKey
}

// OpenSigner reads a private key in PEM (PKCS #8), and its certificate with those that signed it.
func OpenSigner(key, certificates string) (Signer, error) {
	keyText, err1 := os.ReadFile(key)
	text, err2 := os.ReadFile(certificates)
	if err := errors.Join(err1, err2); err != nil {
		return Signer{}, fmt.Errorf("sign: %w", err)
	}
	block, _ := pem.Decode(keyText)
	if block == nil {
		return Signer{}, fmt.Errorf("sign: %s is no private key in PEM", key)
	}
	private, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return Signer{}, fmt.Errorf("sign: %s is no private key by PKCS #8, in PEM: %w", key, err)
	}
	var k Keys
	if err := k.read(text); err != nil {
		return Signer{}, fmt.Errorf("sign: %s: %w", certificates, err)
	}
	return Signer{k.certificates, private}, nil
}

// Sign signs an artifact, as JWS. Sums are those of its certificates, for AnnotationSums.
func (s Signer) Sign(of Target, now time.Time) (envelope []byte, mediaType, sums string, err error) {
	mediaType = jws.MediaTypeEnvelope
	signer, err := notary.NewLocalSigner(s.chain, s.key)
	if err != nil {
		return nil, "", "", fmt.Errorf("sign: %w", err)
	}
	content, err1 := json.Marshal(payload{of})
	made, err2 := notary.NewEnvelope(mediaType)
	if err := errors.Join(err1, err2); err != nil {
		return nil, "", "", fmt.Errorf("sign: %w", err)
	}
	envelope, err = made.Sign(&notary.SignRequest{
		Payload: notary.Payload{ContentType: payloadType, Content: content}, Signer: signer, SigningTime: now, SigningScheme: notary.SigningSchemeX509,
	})
	if err != nil {
		return nil, "", "", fmt.Errorf("sign: the certificate must be for signing code, with its whole chain: %w", err)
	}
	text, err := json.Marshal(thumbprints(s.chain))
	return envelope, mediaType, string(text), err
}

// thumbprints are the SHA-256 sums of certificates.
func thumbprints(chain []*x509.Certificate) (all []string) {
	for _, c := range chain {
		all = append(all, fmt.Sprintf("%x", sha256.Sum256(c.Raw)))
	}
	return all
}
