package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
)

// Unread is the whole answer to a request that could not be read: a problem as all others are, after
// which the connection ends. why is what the server found, "" when it does not say.
func Unread(status int, why string) []byte {
	detail := "The request could not be read"
	switch {
	case status == http.StatusRequestHeaderFieldsTooLarge:
		detail = "The headers of the request are too large: 1 MiB is the most"
	case why != "":
		detail += ": " + why
	}
	raw, err := json.Marshal((&problem{status: status, kind: "invalid", detail: detail + "."}).body())
	if err != nil {
		raw = nil
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "HTTP/1.1 %d %s\r\nContent-Type: application/problem+json\r\nX-Content-Type-Options: nosniff\r\nCache-Control: no-store\r\nContent-Length: %d\r\nConnection: close\r\n\r\n", status, http.StatusText(status), len(raw))
	b.Write(raw)
	return b.Bytes()
}
