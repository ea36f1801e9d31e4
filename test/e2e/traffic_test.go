package e2e

import (
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/certtest"
	"unitas/internal/porttest"
)

// long asks all the time for what takes a good while, as many at once as there are kinds of
// listeners.
type long struct {
	done         chan struct{}
	all          sync.WaitGroup
	sent, failed atomic.Int64
	first        atomic.Pointer[string]
}

func (l *long) keepAsking(kind, url string, transport *http.Transport) {
	l.all.Go(func() {
		c := &http.Client{Timeout: 20 * time.Second, Transport: transport}
		defer c.CloseIdleConnections()
		for {
			select {
			case <-l.done:
				return
			default:
			}
			l.sent.Add(1)
			res, err := c.Get(url)
			why := ""
			if err != nil {
				why = err.Error()
			} else {
				raw, err := io.ReadAll(res.Body)
				res.Body.Close()
				if err != nil || res.StatusCode != http.StatusOK {
					why = fmt.Sprintf("%d %v %s", res.StatusCode, err, raw)
				}
			}
			if why != "" {
				why = kind + ": " + why
				l.failed.Add(1)
				l.first.CompareAndSwap(nil, &why)
			}
		}
	})
}

// TestEachKindOfTrafficIsWhole rolls out, changes routes, certificates and limits, and shrinks,
// under long requests through every kind of listener: none is cut, for none outlasts its drain.
func TestEachKindOfTrafficIsWhole(t *testing.T) {
	s := start(t)
	s.stock()
	s.group(1)
	dir := filepath.Join(s.dir, "certificates")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for i, name := range []string{"saltmere", "headland"} {
		certtest.WriteFor(t, filepath.Join(dir, name+".pem"), filepath.Join(dir, name+".key"), int64(i+1), name+".example")
	}
	secure, any := porttest.Free(t), porttest.Free(t)
	yes, certificates, pool := true, []string{"saltmere"}, "front"
	https, tcp := contract.ListenerProtocolHttps, contract.ListenerProtocolTcp
	for _, l := range []contract.NewListener{
		{Address: s.back, Pool: &pool, Http2: &yes},
		{Address: secure, Protocol: &https, Pool: &pool, Certificates: &certificates},
		{Address: any, Protocol: &tcp, Pool: &pool},
	} {
		made := must[contract.Listener](t)(client.Read[contract.Listener](s.api.CreateListener(ctx, nil, l)))
		if made.Trouble != "" {
			t.Fatal(made.Trouble)
		}
	}
	change := func(address string, c contract.ListenerChange) {
		t.Helper()
		whatever := "*"
		must[contract.Listener](t)(client.Read[contract.Listener](s.api.ChangeListener(ctx, address, &contract.ChangeListenerParams{IfMatch: &whatever}, c)))
	}
	traffic := &long{done: make(chan struct{})}
	only := func(set func(p *http.Protocols)) *http.Protocols {
		p := new(http.Protocols)
		set(p)
		return p
	}
	for range 3 {
		traffic.keepAsking("http", "http://"+s.front+"/?wait=1500ms", &http.Transport{})
		traffic.keepAsking("HTTP/2 in clear", "http://"+s.back+"/?wait=1500ms", &http.Transport{Protocols: only(func(p *http.Protocols) { p.SetUnencryptedHTTP2(true) })})
		traffic.keepAsking("HTTP/2", "https://"+secure+"/?wait=1500ms", &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, Protocols: only(func(p *http.Protocols) { p.SetHTTP2(true) })})
		traffic.keepAsking("https", "https://"+secure+"/?wait=1500ms", &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, Protocols: only(func(p *http.Protocols) { p.SetHTTP1(true) })})
		traffic.keepAsking("tcp", "http://"+any+"/?wait=1500ms", &http.Transport{DisableKeepAlives: true})
	}
	stop := sync.OnceFunc(func() { close(traffic.done); traffic.all.Wait() })
	t.Cleanup(stop)
	ro := s.rollOut("timetable-web@2", "50%", "100%")
	both, path, longer := []string{"headland", "saltmere"}, "/nowhere", 40.0
	routes := []contract.Route{{Path: &path, Pool: "front"}}
	for _, address := range []string{s.front, s.back, secure} {
		change(address, contract.ListenerChange{Routes: &routes, Limits: &contract.ListenerLimits{IdleSeconds: &longer}})
	}
	change(secure, contract.ListenerChange{Certificates: &both})
	s.becomes(ro.Number, contract.RolloutStateDone)
	size := 2
	whatever := "*"
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size})))
	s.whole(2)
	stop()
	if n := traffic.failed.Load(); n > 0 {
		t.Errorf("%d of %d long requests were cut, the first with: %s", n, traffic.sent.Load(), *traffic.first.Load())
	}
	if traffic.sent.Load() < 30 {
		t.Errorf("only %d long requests were sent", traffic.sent.Load())
	}
	conn, err := tls.Dial("tcp", secure, &tls.Config{ServerName: "headland.example", InsecureSkipVerify: true})
	if err != nil || conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64() != 2 {
		t.Errorf("asked for headland.example it shows another certificate: %v", err)
	} else {
		conn.Close()
	}
}

// TestARegionIsLost: a listener that prefers harbour has headland help out while harbour is lost
// by a drill, and goes home when it is back.
func TestARegionIsLost(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	one, pools, heal, settle, drain := 1, []string{"front"}, "sailings-up", 1.0, 1.0
	must[contract.Image](t)(client.Read[contract.Image](s.api.CopyImage(ctx, "timetable", "1", contract.NewCopy{To: "headland"})))
	s.eventually("the image is in both regions", func() error {
		i, _, err := client.Read[contract.Image](s.api.GetImage(ctx, "timetable", "1"))
		if err == nil && len(i.Places) < 2 {
			err = fmt.Errorf("it is in %v", i.Places)
		}
		return err
	})
	for name, zones := range map[string][]string{"home": {"east-pier", "mid-pier"}, "away": {"north-slip", "south-slip"}} {
		must[contract.Group](t)(client.Read[contract.Group](s.api.CreateGroup(ctx, nil, contract.NewGroup{Name: name, Template: "timetable-web@1", Size: 2, Min: &one, Zones: &zones,
			Pools: &pools, Heal: &heal, SettleSeconds: &settle, DrainSeconds: &drain})))
	}
	whatever := "*"
	order := []string{"harbour", "headland"}
	must[contract.Listener](t)(client.Read[contract.Listener](s.api.ChangeListener(ctx, s.front, &contract.ChangeListenerParams{IfMatch: &whatever},
		contract.ListenerChange{RegionOrder: &contract.RegionOrder{How: "in-order", Regions: &order}})))
	where := func() map[string]int {
		count := map[string]int{}
		for range 8 {
			res, err := http.Get("http://" + s.front + "/")
			if err != nil {
				count["failed"]++
				continue
			}
			var said struct{ Instance string }
			if err := json.NewDecoder(res.Body).Decode(&said); err != nil || res.StatusCode != http.StatusOK {
				count["failed"]++
			}
			res.Body.Close()
			group, _, _ := strings.Cut(said.Instance, "-")
			count[group]++
		}
		return count
	}
	all := func(group string) func() error {
		return func() error {
			if c := where(); c[group] != 8 {
				return fmt.Errorf("the requests went %v", c)
			}
			return nil
		}
	}
	s.eventually("both are there", func() error {
		p, _, err := client.Read[contract.Pool](s.api.GetPool(ctx, "front"))
		if err == nil && len(p.Targets) < 4 {
			err = fmt.Errorf("%d targets", len(p.Targets))
		}
		return err
	})
	s.eventually("all goes to the nearest", all("home"))
	region, span := "harbour", 60.0
	d := s.drill(contract.NewDrill{Kind: contract.NewDrillKindRegion, Region: &region, ForSeconds: &span})
	s.eventually("the other one helps out", all("away"))
	// The first requests find nobody there before it is known that the machines are gone.
	s.eventually("the listener tells why", func() error {
		l, _, err := client.Read[contract.Listener](s.api.GetListener(ctx, s.front))
		if err == nil && (!strings.Contains(l.Spill, "so headland") || !strings.Contains(l.Sentence, l.Spill)) {
			err = errors.New(l.Sentence)
		}
		return err
	})
	if res, err := s.api.StopDrill(ctx, d.Number); err != nil || res.StatusCode != http.StatusNoContent {
		t.Fatalf("the drill is not stopped: %v", err)
	}
	s.eventually("all is home again", all("home"))
	for _, want := range []string{`unitas_listener_requests_total{listener="` + s.front + `"}`, `unitas_listener_troubled{listener="` + s.front + `"} 0`} {
		if _, _, body := s.call("GET", "/metrics", ""); !strings.Contains(body, want) {
			t.Errorf("/metrics does not tell %s", want)
		}
	}
}
