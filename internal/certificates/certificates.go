// Package certificates finds the certificates that listeners may use, by name, in the one
// directory that the configuration says. Nobody who asks over the interface names a file.
package certificates

import (
	"crypto/tls"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// Dir is the directory: of each certificate NAME.pem has the chain and NAME.key the
// private key, both in PEM.
type Dir string

var name = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

// Files are the two files of a certificate. What an earlier release recorded is the files
// themselves.
func (d Dir) Files(certificate, key string) (string, string) {
	if certificate == "" || key != "" {
		return certificate, key
	}
	at := filepath.Join(string(d), certificate)
	return at + ".pem", at + ".key"
}

// Fault tells why a certificate cannot be used; "" when it can.
func (d Dir) Fault(certificate string) string {
	if !name.MatchString(certificate) {
		return fmt.Sprintf("%q is not the name of a certificate: letters, digits, dots, hyphens and underscores; %s", certificate, d.there())
	}
	chain, key := d.Files(certificate, "")
	for _, file := range []string{chain, key} {
		if _, err := os.Stat(file); err != nil {
			return fmt.Sprintf("there is no certificate %s among those of the service: it needs %s.pem and %s.key; %s", certificate, certificate, certificate, d.there())
		}
	}
	if _, err := tls.LoadX509KeyPair(chain, key); err != nil {
		return fmt.Sprintf("the certificate %s cannot be used: %s", certificate, strings.TrimPrefix(err.Error(), "tls: "))
	}
	return ""
}

// there says in words which certificates there are, at most ten.
func (d Dir) there() string {
	chains, _ := filepath.Glob(filepath.Join(string(d), "*.pem"))
	if len(chains) == 0 {
		return fmt.Sprintf("there are none in %s", string(d))
	}
	names := make([]string, 0, len(chains))
	for i, c := range chains {
		if i == 10 {
			names = append(names, "…")
			break
		}
		names = append(names, strings.TrimSuffix(filepath.Base(c), ".pem"))
	}
	return "there are " + strings.Join(names, ", ")
}
