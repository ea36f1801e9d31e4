package traffic

import (
	"fmt"
	"time"
)

// TargetProtocol is what a pool's targets are spoken to in.
type TargetProtocol string

// The ways: HTTP/1.1 in clear, HTTP/2 in clear, or TLS with the newer of the two that the target
// knows. The zero value is Plain.
const (
	Plain  TargetProtocol = "http"
	HTTP2  TargetProtocol = "http2"
	Secure TargetProtocol = "https"
)

// Whom a target that speaks TLS is trusted by: the host's authorities, nobody (whatever it
// shows is taken), or the certificates of a name.
const (
	TrustHost   = "host"
	TrustAnyone = "anyone"
)

// By is what a caller is known again by.
type By string

// The ways. The zero value is ByNone.
const (
	ByNone    By = "none"
	ByCookie  By = "cookie"
	ByHeader  By = "header"
	ByAddress By = "address"
)

// Affinity keeps a caller at one target for as long as that is there.
type Affinity struct {
	By     By     `json:"by,omitempty"`
	Header string `json:"header,omitempty"` // of ByHeader
	// For is how long a cookie is kept; 0 until the browser ends.
	For time.Duration `json:"for,omitempty"`
}

// PoolLimits bound what a target may take; 0 is without that limit, and for Connect 2 s.
type PoolLimits struct {
	Connect   time.Duration `json:"connect,omitempty"`
	FirstByte time.Duration `json:"first_byte,omitempty"` // from the end of the request
	Idle      time.Duration `json:"idle,omitempty"`       // between two parts of an answer
	Request   time.Duration `json:"request,omitempty"`    // a whole request with its answer
	BodyBytes int64         `json:"body_bytes,omitempty"` // of a request
}

// Targets is how the targets of a pool are spoken to.
type Targets struct {
	Protocol TargetProtocol `json:"speak,omitempty"`
	// Trust is TrustHost, TrustAnyone or a certificate's name; ServerName what they are asked
	// for, "" for the host of the request.
	Trust      string     `json:"trust,omitempty"`
	ServerName string     `json:"server_name,omitempty"`
	Affinity   Affinity   `json:"stay,omitzero"`
	Eject      Eject      `json:"eject,omitzero"`
	Limits     PoolLimits `json:"limits,omitzero"`
}

// validate reports what cannot be, by field as it is told.
func (t *Targets) validate() (field string, err error) {
	switch {
	case t.Protocol != "" && t.Protocol != Plain && t.Protocol != HTTP2 && t.Protocol != Secure:
		return "protocol", fmt.Errorf("%q is none of http, http2 and https", t.Protocol)
	case t.Protocol != Secure && (t.Trust != "" || t.ServerName != ""):
		return "trust", fmt.Errorf("only https targets show a certificate; set the protocol to https as well")
	case (t.Affinity.By == ByHeader) != (t.Affinity.Header != ""):
		return "affinity/header", fmt.Errorf("a header is named for affinity by header, and only then")
	case t.Eject.Slower != 0 && t.Eject.Slower < 1.5:
		return "eject/slower", fmt.Errorf("%g times as slow is what chance makes; give 1.5 or more, or 0 for never", t.Eject.Slower)
	case t.Eject.Max > 0 && t.Eject.Max < t.Eject.First:
		return "eject/most_seconds", fmt.Errorf("the longest time, %s, is shorter than the first, %s", t.Eject.Max, t.Eject.First)
	}
	return "", nil
}
