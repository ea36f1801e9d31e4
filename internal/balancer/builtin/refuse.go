package builtin

import (
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
)

// refusal is what a request is answered that no target answers.
type refusal struct {
	status int
	text   string // a sentence
}

// isLimit reports whether a limit was passed; else the request itself is at fault.
func (no *refusal) isLimit() bool {
	return no.status == http.StatusTooManyRequests || no.status == http.StatusRequestEntityTooLarge
}

// refuse answers a request that no target answers: a line in plain words, or what gRPC
// understands for who speaks that. Where nobody is there to hear it, or something was said
// already, the exchange is broken off.
func (x *exchange) refuse(no *refusal) {
	if no == nil || x.spoken || x.hasGone() {
		if x.failure == "" {
			x.failure = errGone
		}
		x.abort()
	}
	why := no.text
	x.failure = strings.TrimSuffix(strings.ToLower(why[:1])+why[1:], ".")
	h := x.w.Header()
	where := "listener " + x.door.address
	if x.pool != nil {
		where = "pool " + x.pool.name
	}
	text := fmt.Sprintf("%s (%s)", why, where)
	if no.status == http.StatusServiceUnavailable || no.status == http.StatusTooManyRequests {
		h.Set("Retry-After", "1")
	}
	x.isLast(h)
	if no.status == http.StatusNotImplemented && x.in.ProtoMajor == 1 {
		h.Set("Connection", "close") // what comes after is for somebody else
	}
	x.begins(no.status)
	if strings.HasPrefix(x.in.Header.Get("Content-Type"), "application/grpc") {
		h.Set("Content-Type", "application/grpc")
		h.Set("Grpc-Status", strconv.Itoa(grpcStatus(no.status)))
		h.Set("Grpc-Message", text)
		x.w.WriteHeader(http.StatusOK)
		return
	}
	h.Set("Content-Type", "text/plain; charset=utf-8")
	h.Set("Content-Length", strconv.Itoa(len(text)+1))
	x.patience.begin(forTaking)
	defer x.patience.end(forTaking)
	x.w.WriteHeader(no.status)
	_, _ = io.WriteString(x.w, text+"\n")
}

// grpcStatus is what a status is to who speaks gRPC (doc/http-grpc-status-mapping.md there, but
// for what is ours alone to know).
func grpcStatus(status int) int {
	switch status {
	case http.StatusBadRequest, http.StatusInternalServerError:
		return 13 // internal
	case http.StatusNotFound:
		return 12 // unimplemented
	case http.StatusGatewayTimeout:
		return 4 // deadline exceeded
	case http.StatusTooManyRequests, http.StatusRequestEntityTooLarge:
		return 8 // resource exhausted
	}
	return 14 // unavailable
}
