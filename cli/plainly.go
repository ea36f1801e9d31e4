package cli

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"regexp"
	"strings"
	"syscall"

	"unitas/client"
)

// network says in plain words why a service is not reached.
func network(err error) string {
	const noAddress = "this is no address of a service; give one such as http://127.0.0.1:7410"
	const noTLS = "it does not speak TLS; try http:// in place of https://"
	var asked *url.Error
	if errors.As(err, &asked) {
		if asked.Op == "parse" {
			return noAddress
		}
		err = asked.Err
	}
	var name *net.DNSError
	var certificate *tls.CertificateVerificationError
	var plain tls.RecordHeaderError
	var timeout net.Error
	var syntax *json.SyntaxError
	var shape *json.UnmarshalTypeError
	switch {
	case errors.Is(err, client.ErrStranger):
		return err.Error()
	case errors.As(err, &syntax), errors.As(err, &shape):
		return "what answers there is not Unitas, or of another version than this command"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens there; start it with unitas serve"
	case errors.As(err, &name) && name.IsNotFound:
		return "there is no host " + name.Name
	case errors.As(err, &name):
		return "the address of " + name.Name + " could not be looked up"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return "it does not answer in time"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way to it over the network"
	case errors.As(err, &certificate):
		return "its certificate is not trusted: " + strings.TrimPrefix(certificate.Err.Error(), "x509: ")
	case errors.As(err, &plain), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return noTLS
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return "it closed the connection without an answer"
	case strings.Contains(err.Error(), "unsupported protocol scheme"):
		return noAddress
	}
	return "the connection failed"
}

// brokeOff says why something that was copied from the service ended early.
func brokeOff(err error) string {
	if errors.Is(err, syscall.ENOSPC) {
		return "the disk is full"
	}
	return network(err)
}

// onFile is a file that cannot be read or written, in plain words.
func onFile(what, name string, err error) error {
	why := "it cannot be read"
	var of *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		why = "there is no such file or directory"
	case errors.Is(err, fs.ErrPermission):
		why = "you may not open it"
	case errors.Is(err, syscall.EISDIR):
		why = "it is a directory"
	case errors.As(err, &of):
		why = of.Err.Error()
	}
	return fmt.Errorf("%s %s: %s", what, name, why)
}

var unknownSetting = regexp.MustCompile(`unknown field "([^"]*)"`)

// inYAML is what is wrong with a file of settings, in plain words.
func inYAML(err error) string {
	var kind *json.UnmarshalTypeError
	text := err.Error()
	if m := unknownSetting.FindStringSubmatch(text); m != nil {
		return fmt.Sprintf("there is no setting %q; the settings have the names of the flags", m[1])
	}
	if errors.As(err, &kind) {
		return fmt.Sprintf("%s: a %s is not what it takes", kind.Field, kind.Value)
	}
	if _, after, ok := strings.Cut(text, "yaml: "); ok {
		return "it is not good YAML: " + after
	}
	if _, after, ok := strings.Cut(text, "time: "); ok {
		return after + "; give a time such as 30s or 5m"
	}
	return "it is not good YAML"
}
