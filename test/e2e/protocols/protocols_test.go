// Package protocols holds the balancer against what others wrote: gRPC's own cases, and a
// suite for HTTP/2.
package protocols

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/xml"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/summerwind/h2spec"
	"github.com/summerwind/h2spec/config"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/interop"
	testgrpc "google.golang.org/grpc/interop/grpc_testing"
	"google.golang.org/grpc/status"

	"unitas/internal/balancer"
	"unitas/internal/balancer/builtin"
	"unitas/internal/certtest"
	"unitas/internal/fleet/traffic"
	"unitas/internal/porttest"
)

// house is a balancer with one pool and one listener.
type house struct {
	*builtin.Balancer
	address string
	pool    balancer.Pool
}

func newHouse(t *testing.T, l traffic.Listener, pairs []balancer.Pair, spoken traffic.Targets, trusted string, targets ...string) *house {
	t.Helper()
	h := &house{Balancer: builtin.New(builtin.Config{Log: slog.New(slog.DiscardHandler), Open: builtin.Bare, Logs: t.TempDir(), Key: []byte("key")}),
		address: porttest.Free(t), pool: balancer.Pool{Name: "quays", Known: true, As: 1, Spoken: spoken, Trusted: trusted}}
	t.Cleanup(h.Close)
	for i, address := range targets {
		h.pool.Targets = append(h.pool.Targets, balancer.Target{Instance: fmt.Sprint("quays-", i), Address: address, Open: true, Weight: 100})
	}
	h.sync(t)
	l.Address, l.Pool, l.Limits = h.address, "quays", traffic.UsualListenerLimits
	h.Listen([]balancer.Listener{{Listener: l, Pairs: pairs}})
	if s := h.Listening()[0]; s.Trouble != "" {
		t.Fatal(s.Trouble)
	}
	return h
}

func (h *house) sync(t *testing.T) {
	t.Helper()
	h.pool.As++
	if err := h.Sync(context.Background(), h.pool); err != nil {
		t.Fatal(err)
	}
}

// served runs a gRPC server until the test ends.
func served(t *testing.T, options ...grpc.ServerOption) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := grpc.NewServer(options...)
	testgrpc.RegisterTestServiceServer(s, interop.NewTestServer())
	go s.Serve(l) //nolint:errcheck // it is stopped below
	t.Cleanup(s.Stop)
	return l.Addr().String()
}

func TestGRPCThroughAPool(t *testing.T) {
	dir := t.TempDir()
	pair := balancer.Pair{Name: "quays", Chain: filepath.Join(dir, "quays.pem"), Key: filepath.Join(dir, "quays.key")}
	certtest.Write(t, pair.Chain, pair.Key, 1)
	own, err := credentials.NewServerTLSFromFile(pair.Chain, pair.Key)
	if err != nil {
		t.Fatal(err)
	}
	raw, _ := os.ReadFile(pair.Chain)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(raw)
	leaf, _ := tls.LoadX509KeyPair(pair.Chain, pair.Key)
	name := leaf.Leaf.DNSNames[0]
	clear, secure := traffic.Listener{Protocol: traffic.HTTP, HTTP2: true}, traffic.Listener{Protocol: traffic.HTTPS, HTTP2: true}
	inClear := grpc.WithTransportCredentials(insecure.NewCredentials())
	withTLS := grpc.WithTransportCredentials(credentials.NewTLS(&tls.Config{RootCAs: roots, ServerName: name}))
	plainTarget, secureTarget := served(t), served(t, grpc.Creds(own))
	for _, c := range []struct {
		name   string
		house  *house
		speaks grpc.DialOption
	}{
		{"in clear", newHouse(t, clear, nil, traffic.Targets{Protocol: traffic.HTTP2}, "", plainTarget), inClear},
		{"with TLS before it", newHouse(t, secure, []balancer.Pair{pair}, traffic.Targets{Protocol: traffic.HTTP2}, "", plainTarget), withTLS},
		{"with TLS to whom it trusts", newHouse(t, secure, []balancer.Pair{pair}, traffic.Targets{Protocol: traffic.Secure, Trust: "quays", ServerName: name}, pair.Chain, secureTarget), withTLS},
		{"with TLS to anyone", newHouse(t, clear, nil, traffic.Targets{Protocol: traffic.Secure, Trust: traffic.TrustAnyone}, "", secureTarget), inClear},
	} {
		t.Run(c.name, func(t *testing.T) {
			conn, err := grpc.NewClient(c.house.address, c.speaks)
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close()
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			tc := testgrpc.NewTestServiceClient(conn)
			interop.DoEmptyUnaryCall(ctx, tc)
			interop.DoLargeUnaryCall(ctx, tc)
			interop.DoClientStreaming(ctx, tc)
			interop.DoServerStreaming(ctx, tc)
			interop.DoPingPong(ctx, tc)
			interop.DoEmptyStream(ctx, tc)
			interop.DoTimeoutOnSleepingServer(ctx, tc)
			interop.DoCancelAfterBegin(ctx, tc)
			interop.DoCancelAfterFirstResponse(ctx, tc)
			interop.DoCustomMetadata(ctx, tc)
			interop.DoStatusCodeAndMessage(ctx, tc)
			interop.DoSpecialStatusMessage(ctx, tc)
			interop.DoUnimplementedMethod(ctx, conn)
			interop.DoUnimplementedService(ctx, testgrpc.NewUnimplementedServiceClient(conn))
			s, _ := c.house.Stats("quays")
			if s.Requests < 13 || s.Targets[0].InFlight != 0 {
				t.Errorf("the balancer tells of %d requests, and %d in flight", s.Requests, s.Targets[0].InFlight)
			}
			c.house.pool.Targets[0].Open = false
			c.house.sync(t)
			if _, err := tc.EmptyCall(ctx, &testgrpc.Empty{}); status.Code(err) != codes.Unavailable || status.Convert(err).Message() != "No target is healthy. (pool quays)" {
				t.Errorf("with nobody healthy the caller is told %v", err)
			}
		})
	}
}

// TestWhomItDoesNotTrust gets no requests.
func TestWhomItDoesNotTrust(t *testing.T) {
	target := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "told") }))
	defer target.Close()
	dir := t.TempDir()
	other := filepath.Join(dir, "other.pem")
	certtest.Write(t, other, filepath.Join(dir, "other.key"), 1)
	for name, c := range map[string]struct {
		spoken  traffic.Targets
		trusted string
		want    int
	}{
		"the authorities of the host": {traffic.Targets{Protocol: traffic.Secure}, "", http.StatusBadGateway},
		"another certificate":         {traffic.Targets{Protocol: traffic.Secure, Trust: "other"}, other, http.StatusBadGateway},
		"anyone":                      {traffic.Targets{Protocol: traffic.Secure, Trust: traffic.TrustAnyone}, "", http.StatusOK},
	} {
		h := newHouse(t, traffic.Listener{Protocol: traffic.HTTP}, nil, c.spoken, c.trusted, target.Listener.Addr().String())
		res, err := http.Get("http://" + h.address)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if res.StatusCode != c.want {
			t.Errorf("trusting %s it is answered %d", name, res.StatusCode)
		}
	}
}

// otherwise are the cases that are answered in another way, with why: docs/tasks/traffic.md says it
// to people.
var otherwise = []string{
	"http2/6.5.3 Sends multiple values of SETTINGS_INITIAL_WINDOW_SIZE",
	"http2/8.1.2.2 Sends a HEADERS frame that contains the connection-specific header field",
	`http2/8.1.2.2 Sends a HEADERS frame that contains the TE header field with any value other than "trailers"`,
}

// inClear is one more in clear: what does not begin as HTTP/2 is taken for HTTP/1.1 there.
const inClear = "http2/3.5 Sends invalid connection preface"

func TestHTTP2Suite(t *testing.T) {
	target := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, "a whole answer")
	}))
	defer target.Close()
	dir := t.TempDir()
	pair := balancer.Pair{Name: "quays", Chain: filepath.Join(dir, "quays.pem"), Key: filepath.Join(dir, "quays.key")}
	certtest.Write(t, pair.Chain, pair.Key, 1)
	for _, secure := range []bool{true, false} {
		l, pairs := traffic.Listener{Protocol: traffic.HTTP, HTTP2: true}, []balancer.Pair(nil)
		if secure {
			l.Protocol, pairs = traffic.HTTPS, []balancer.Pair{pair}
		}
		h := newHouse(t, l, pairs, traffic.Targets{}, "", target.Listener.Addr().String())
		host, port, _ := net.SplitHostPort(h.address)
		n, _ := strconv.Atoi(port)
		report := filepath.Join(dir, fmt.Sprint("report-", secure, ".xml"))
		if _, err := h2spec.Run(&config.Config{Host: host, Port: n, Path: "/", Timeout: 2 * time.Second, MaxHeaderLen: 4000, TLS: secure, Insecure: true, JUnitReport: report}); err != nil {
			t.Fatal(err)
		}
		good, bad := read(t, report)
		t.Logf("secure %v: %d good, bad: %v", secure, good, bad)
		want := slices.Clone(otherwise)
		if !secure {
			want = append(want, inClear)
		}
		for _, one := range bad {
			if !slices.Contains(want, one) {
				t.Errorf("secure %v: this case is not good any more, and nothing says why: %s", secure, one)
			}
		}
		if good < 145-len(want) {
			t.Errorf("secure %v: only %d cases are good", secure, good)
		}
	}
}

func read(t *testing.T, report string) (good int, bad []string) {
	t.Helper()
	var all struct {
		Suites []struct {
			Cases []struct {
				Package string    `xml:"package,attr"`
				Name    string    `xml:"classname,attr"`
				Failure *struct{} `xml:"failure"`
				Error   *struct{} `xml:"error"`
				Skipped *struct{} `xml:"skipped"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	raw, err := os.ReadFile(report)
	if err == nil {
		err = xml.Unmarshal(raw, &all)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range all.Suites {
		for _, c := range s.Cases {
			if c.Failure == nil && c.Error == nil && c.Skipped == nil {
				good++
			} else {
				bad = append(bad, c.Package+" "+c.Name)
			}
		}
	}
	return good, bad
}
