package api

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// TestCertificate renews a server's certificate under it: the new one is shown without a restart, and files that are none change nothing.
func TestCertificate(t *testing.T) {
	folder := t.TempDir()
	files := TCP{Cert: filepath.Join(folder, "cert.pem"), Key: filepath.Join(folder, "key.pem")}
	written := time.Now().Add(-time.Hour)
	write := func(name, text string) {
		t.Helper()
		written = written.Add(time.Second) // whatever a file system takes for the same moment
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(name, written, written); err != nil {
			t.Fatal(err)
		}
	}
	renew := func(serial int64) {
		t.Helper()
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		template := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "harbor-1"}, NotAfter: time.Now().Add(time.Hour)}
		made, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
		if err != nil {
			t.Fatal(err)
		}
		private, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			t.Fatal(err)
		}
		write(files.Cert, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made})))
		write(files.Key, string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})))
	}
	renew(1)
	c := &certificate{TCP: files, log: slog.New(slog.DiscardHandler)}
	if err := c.read(); err != nil {
		t.Fatal(err)
	}
	shown := func() int64 {
		t.Helper()
		c.looked = time.Time{} // as after a second
		pair, err := c.get(nil)
		if err != nil {
			t.Fatal(err)
		}
		leaf, err := x509.ParseCertificate(pair.Certificate[0])
		if err != nil {
			t.Fatal(err)
		}
		return leaf.SerialNumber.Int64()
	}
	if n := shown(); n != 1 {
		t.Errorf("number %d is shown", n)
	}
	write(files.Cert, "half a certif")
	if n := shown(); n != 1 {
		t.Errorf("while it is written, number %d is shown", n)
	}
	renew(2)
	if n := shown(); n != 2 {
		t.Errorf("after it was renewed, number %d is shown", n)
	}
}
