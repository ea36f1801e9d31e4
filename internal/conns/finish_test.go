package conns

import (
	"context"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"unitas/internal/waittest"
)

// TestFinishDropsNobody ends one server after another on an address on which another one
// stays, under callers who make a connection for each request: each is answered.
func TestFinishDropsNobody(t *testing.T) {
	stays, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer stays.Close()
	answer := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ahoy")) })
	go func() { _ = http.Serve(stays, answer) }()
	done := make(chan bool)
	var all sync.WaitGroup
	var sent, failed atomic.Int64
	for range 3 {
		all.Go(func() {
			c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 20 * time.Second}
			for {
				select {
				case <-done:
					return
				default:
				}
				sent.Add(1)
				res, err := c.Get("http://" + stays.Addr().String())
				if err != nil {
					failed.Add(1)
					t.Log(err)
					continue
				}
				res.Body.Close()
			}
		})
	}
	for range 150 {
		f, err := stays.(*net.TCPListener).File()
		if err != nil {
			t.Fatal(err)
		}
		l, err := net.FileListener(f) // the same socket
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
		var open Count
		s := &http.Server{Handler: answer, ConnState: open.State}
		served := make(chan bool)
		go func() {
			_ = s.Serve(l)
			close(served)
		}()
		<-time.After(5 * time.Millisecond)
		l.Close()
		waittest.For(t, "the end of the server", served)
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		Finish(ctx, s, &open)
		cancel()
		if n := open.n.Load(); n != 0 {
			t.Errorf("%d connections are open", n)
		}
	}
	close(done)
	all.Wait()
	if failed.Load() > 0 || sent.Load() < 150 {
		t.Errorf("%d of %d requests failed", failed.Load(), sent.Load())
	}
}
