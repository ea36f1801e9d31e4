// Package certtest writes certificates for tests.
package certtest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"testing"
	"time"
)

// Write writes a certificate that signs itself, with the serial number, and its
// key. Each file is replaced at once, as whoever renews certificates does, and has
// a time of its own however fast it is written again.
func Write(t testing.TB, certificate, key string, serial int64) {
	t.Helper()
	WriteFor(t, certificate, key, serial, "saltmere.example")
}

// WriteFor is [Write] for a host of one's own.
func WriteFor(t testing.TB, certificate, key string, serial int64, host string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	about := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: host}, DNSNames: []string{host},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	replace(t, certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), serial)
	replace(t, key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), serial)
}

func replace(t testing.TB, file string, content []byte, serial int64) {
	t.Helper()
	half, at := file+".half", time.Unix(1_700_000_000+serial, 0)
	if err := os.WriteFile(half, content, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(half, at, at); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(half, file); err != nil {
		t.Fatal(err)
	}
}
