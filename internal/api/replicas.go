package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/store"
)

// ListReplicas tells who is on this database, and who keeps what.
func (s *Server) ListReplicas(ctx context.Context, _ routes.ListReplicasRequestObject) (routes.ListReplicasResponseObject, error) {
	all, err := s.Store.Replicas(ctx)
	now := time.Now()
	return routes.ListReplicas200JSONResponse{Items: each(all, func(r store.Replica) contract.Replica {
		return contract.Replica{Id: r.ID, Name: r.Name, Address: r.Address, Version: r.Version, Self: r.ID == s.Self, Alive: r.Until.After(now), Stopping: r.Stopping,
			StartedAt: r.Since.UTC(), UntilAt: r.Until.UTC(), Groups: r.Groups, GroupNames: r.Keeps}
	})}, err
}

// passedOn marks a request that one replica passed on to another: it goes no further.
const passedOn = "Unitas-Passed-On"

type passedOnKey struct{}

func isPassedOn(ctx context.Context) bool { return ctx.Value(passedOnKey{}) != nil }

// atKeeper has a request for what only one replica knows answered there: what a group and
// its instances do now, and what is to be done with the files of one. When that one does
// not answer, this one does, from the records.
func (s *Server) atKeeper(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Header.Get(passedOn) != "" {
			c.SetRequest(r.WithContext(context.WithValue(r.Context(), passedOnKey{}, true)))
			return next(c)
		}
		at := s.concerned(c)
		if at == nil {
			return next(c)
		}
		unreached := false
		proxy := &httputil.ReverseProxy{
			Rewrite: func(p *httputil.ProxyRequest) {
				p.SetURL(at)
				p.Out.Host = p.In.Host
				p.Out.Header.Set(passedOn, s.Self)
			},
			Transport:     s.peers,
			FlushInterval: -1,
			ErrorHandler:  func(http.ResponseWriter, *http.Request, error) { unreached = true },
		}
		proxy.ServeHTTP(c.Response(), r)
		if unreached && r.Context().Err() == nil {
			return next(c)
		}
		return nil
	}
}

// concerned is where the replica is that keeps what a request is about; nil when that is
// this one, or when any can answer as well.
func (s *Server) concerned(c *echo.Context) *url.URL {
	r := c.Request()
	if r.Method != http.MethodGet || !s.Control.HasOthers() {
		return nil // any replica can carry a change out
	}
	group := ""
	switch path := c.Path(); {
	case strings.HasPrefix(path, "/v1/groups/:"):
		group = c.Param("name")
	case strings.HasPrefix(path, "/v1/instances/:"):
		in, err := s.Store.Instance(r.Context(), c.Param("id"))
		if err != nil {
			return nil
		}
		group = in.Group
	case strings.HasPrefix(path, "/v1/rollouts/:"):
		n, _ := strconv.ParseInt(c.Param("number"), 10, 64)
		ro, err := s.Store.Rollout(r.Context(), n)
		if err != nil {
			return nil
		}
		group = ro.Group
	case path == "/v1/rollouts", path == "/v1/instances", path == "/v1/instance-changes": // of one group, if any
		group = r.URL.Query().Get("group")
	}
	if group == "" {
		return nil
	}
	return s.keeperOf(r.Context(), group)
}

// keeperOf is where the replica is that keeps a group; nil when it is this one, or nobody.
func (s *Server) keeperOf(ctx context.Context, group string) *url.URL {
	if s.Control.Keeps(group) || !s.Control.HasOthers() {
		return nil
	}
	who, err := s.Store.KeptBy(ctx, group)
	if err != nil || who.ID == s.Self || who.Until.Before(time.Now()) {
		return nil
	}
	at, err := url.Parse(who.Address)
	if err != nil {
		return nil
	}
	return at
}

// peerLimit is how long another replica may take to answer: it does at once, or is held up.
const peerLimit = 3 * time.Second

// fromOthers has every other replica that is alive answer a request, until one of take
// returns false. Those that do not answer are passed over.
func (s *Server) fromOthers(ctx context.Context, method, path string, take func(status int, body []byte) (more bool)) {
	if !s.Control.HasOthers() || isPassedOn(ctx) {
		return
	}
	all, err := s.Store.Replicas(ctx)
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, peerLimit)
	defer cancel()
	for _, r := range all {
		if r.ID == s.Self || r.Until.Before(time.Now()) {
			continue
		}
		status, body, err := s.askPeer(ctx, method, r.Address+path, nil)
		if err != nil {
			s.Log.Debug("another service did not answer", "address", r.Address, "error", err)
			continue
		}
		if !take(status, body) {
			return
		}
	}
}

// askPeer asks another replica in the name of who asks this one.
func (s *Server) askPeer(ctx context.Context, method, at string, send []byte) (status int, body []byte, err error) {
	req, err := http.NewRequestWithContext(ctx, method, at, bytes.NewReader(send))
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Authorization", authorization(ctx))
	req.Header.Set(passedOn, s.Self)
	if send != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := s.peers.RoundTrip(req)
	if err != nil {
		return 0, nil, err
	}
	body, err = io.ReadAll(io.LimitReader(res.Body, maxBody))
	return res.StatusCode, body, errors.Join(err, res.Body.Close())
}

// drillsElsewhere are the drills that other replicas have under way.
func (s *Server) drillsElsewhere(ctx context.Context) (all []contract.Drill) {
	s.fromOthers(ctx, http.MethodGet, "/v1/drills", func(status int, body []byte) bool {
		var list contract.DrillList
		if status == http.StatusOK && json.Unmarshal(body, &list) == nil {
			all = append(all, list.Items...)
		}
		return true
	})
	return all
}

// stopElsewhere ends a drill that another replica has under way, and reports whether one
// had it.
func (s *Server) stopElsewhere(ctx context.Context, number int64) (stopped bool) {
	s.fromOthers(ctx, http.MethodDelete, "/v1/drills/"+strconv.FormatInt(number, 10), func(status int, _ []byte) bool {
		stopped = status == http.StatusNoContent
		return !stopped
	})
	return stopped
}

// answered is what another replica answered.
type answered struct {
	status int
	body   []byte
}

// VisitImageFromInstanceResponse passes it on.
func (a answered) VisitImageFromInstanceResponse(w http.ResponseWriter) error {
	kind := "application/json"
	if a.status >= 400 {
		kind = "application/problem+json"
	}
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(a.status)
	_, err := w.Write(a.body)
	return err
}

// restElsewhere has the replica that keeps a group make an image of one of its instances at
// rest; nil when that is this one.
func (s *Server) restElsewhere(ctx context.Context, group string, body *contract.ImageFromInstance) (routes.ImageFromInstanceResponseObject, error) {
	at := s.keeperOf(ctx, group)
	if at == nil {
		return nil, nil
	}
	raw, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	status, answer, err := s.askPeer(ctx, http.MethodPost, at.JoinPath("/v1/images/from-instance").String(), raw)
	if err != nil {
		return nil, &problem{status: http.StatusServiceUnavailable, kind: "unavailable",
			detail: fmt.Sprintf("The service that keeps %s (%s) does not answer; try again in a few seconds, when another keeps it.", group, at.Host)}
	}
	return answered{status, answer}, nil
}
