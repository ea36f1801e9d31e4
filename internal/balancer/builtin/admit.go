package builtin

import (
	"fmt"
	"net/http"
	"strings"

	"unitas/internal/balancer/form"
	"unitas/internal/fleet/words"
)

// admit holds a request against what may pass at all, before anybody asks where it goes; it
// returns why one may not.
func (d *door) admit(s *doorSettings, x *exchange) *refusal {
	r := x.in
	x.path, _, _ = strings.Cut(words.Plain(r.RequestURI, longestShown), "?")
	switch {
	case x.link.surplus:
		return &refusal{http.StatusTooManyRequests, "There are too many connections from your address."}
	case !x.link.who.MayAsk():
		d.overRate.Add(1)
		return &refusal{http.StatusTooManyRequests, "There are too many requests from your address."}
	case r.Method == http.MethodConnect:
		return &refusal{http.StatusNotImplemented, "This is no proxy to elsewhere."}
	}
	var err error
	if x.asked, err = form.Read(r); err != nil {
		return badRequest(err.Error())
	}
	x.path = pathOf(x.asked.Target)
	if x.upgrade = form.Upgrade(r, s.MayUpgrade()); x.upgrade != "" && x.body != nil {
		return badRequest("it asks for another protocol and has a body, which nobody could tell from that protocol")
	}
	if most := s.Limits.BodyBytes; most > 0 && r.ContentLength > most {
		return &refusal{http.StatusRequestEntityTooLarge, tooLong(most)}
	}
	x.body.narrow(s.Limits.BodyBytes)
	return nil
}

// longestShown is how much of what a request asks for is ever shown, in bytes.
const longestShown = 500

// pathOf is the path of a target as it is shown: without its query, which may hold secrets. It has
// been looked at, so it is plain.
func pathOf(target string) string {
	path, _, _ := strings.Cut(target, "?")
	if len(path) > longestShown {
		path = path[:longestShown]
	}
	return path
}

func badRequest(why string) *refusal {
	return &refusal{http.StatusBadRequest, "The request cannot be passed on: " + why + "."}
}

func tooLong(most int64) string {
	return fmt.Sprintf("The body is longer than the %d bytes that it may have.", most)
}
