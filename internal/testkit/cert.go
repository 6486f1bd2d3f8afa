package testkit

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Certificates makes a certificate authority and a certificate by it for 127.0.0.1, which is good until a time; it
// gives their files.
func Certificates(t testing.TB, until time.Time) (ca, cert, key string) {
	t.Helper()
	dir := t.TempDir()
	mother := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Ferry line"}, IsCA: true,
		NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: time.Now().Add(48 * time.Hour),
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	of := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "store.ferry.example"},
		NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: until, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	motherKey, err1 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	ofKey, err2 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	motherRaw, err1 := x509.CreateCertificate(rand.Reader, mother, mother, &motherKey.PublicKey, motherKey)
	ofRaw, err2 := x509.CreateCertificate(rand.Reader, of, mother, &ofKey.PublicKey, motherKey)
	keyRaw, err3 := x509.MarshalECPrivateKey(ofKey)
	if err := errors.Join(err1, err2, err3); err != nil {
		t.Fatal(err)
	}
	write := func(name, kind string, raw []byte) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: raw}), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	return write("ca.pem", "CERTIFICATE", motherRaw), write("cert.pem", "CERTIFICATE", ofRaw),
		write("key.pem", "EC PRIVATE KEY", keyRaw)
}
