package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// BenchmarkConsole measures what a first look at a page takes, and how much of the main
// thread a group of 200 takes, quiet and under 60 requests a second.
func BenchmarkConsole(b *testing.B) {
	if os.Getenv("UNITAS_BENCH") == "" {
		b.Skip("it takes a minute; make bench runs it")
	}
	for b.Loop() {
		measureConsole(b)
	}
}

func measureConsole(b *testing.B) {
	s := start(b)
	s.stock()
	calm := 5.0
	must[contract.Check](b)(client.Read[contract.Check](s.api.CreateCheck(ctx, nil, contract.NewCheck{Name: "calm", Kind: contract.NewCheckKindHttp, Path: new("/up"), IntervalSeconds: &calm})))
	must[contract.Pool](b)(client.Read[contract.Pool](s.api.CreatePool(ctx, nil, contract.NewPool{Name: "many", Listeners: &[]contract.PoolListener{{Address: s.back}}, Check: "calm"})))
	most, settle := 200, 60.0
	few := 3
	must[contract.Group](b)(client.Read[contract.Group](s.api.CreateGroup(ctx, nil, contract.NewGroup{Name: "fares", Template: "timetable-web@1", Size: few, Heal: new("calm"), SettleSeconds: &settle})))
	s.first(b, "sign-in", "/", `document.querySelector('input[type=password]') !== null`, false)
	s.first(b, "groups", "/", `document.querySelector('.group-row') !== null`, true)
	s.first(b, "group", "/groups/fares", `document.querySelectorAll('.slip').length >= 3`, true)
	must[contract.Group](b)(client.Read[contract.Group](s.api.CreateGroup(ctx, nil, contract.NewGroup{Name: "timetable", Template: "timetable-web@1",
		Size: 200, Max: &most, Pools: &[]string{"many"}, Heal: new("calm"), SettleSeconds: &settle})))
	for limit := time.Now().Add(5 * time.Minute); ; <-time.After(time.Second) {
		if g := must[contract.Group](b)(client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))); g.Summary.Serving == 200 {
			break
		} else if time.Now().After(limit) {
			b.Fatal(g.Summary.Sentence)
		}
	}

	tab, stop, err := browser.Start(b.Context(), 1280, 800)
	if err != nil {
		b.Fatal(err)
	}
	defer stop()
	if err := browser.SignIn(tab, "http://"+s.listen, s.token); err != nil {
		b.Fatal(err)
	}
	if err := browser.Do(tab, chromedp.Navigate("http://"+s.listen+"/groups/timetable")); err != nil {
		b.Fatal(err)
	}
	if err := browser.Until(tab, `document.querySelectorAll('.slip').length >= 200`); err != nil {
		b.Fatal(err)
	}
	if _, err := chromedp.Call(tab, performance.Enable, performance.EnableParams{TimeDomain: performance.EnableTimeDomainThreadTicks}); err != nil {
		b.Fatal(err)
	}
	<-time.After(time.Minute) // ages count seconds until then
	const span = 15 * time.Second
	share := func(unit string) {
		<-time.After(3 * time.Second)
		before, begun := busy(b, tab), time.Now()
		<-time.After(span)
		b.ReportMetric(100*(busy(b, tab)-before)/time.Since(begun).Seconds(), "%thread/"+unit)
	}
	share("quiet")
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(time.Second / 60)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				go func() { _ = answers("http://" + s.back + "/sailings") }()
			}
		}
	}()
	share("60")
	close(done)

	// Ten thousand, of which a hundred change with each look.
	many, stopMany := s.tenThousand(b)
	defer stopMany()
	if _, err := chromedp.Call(many, performance.Enable, performance.EnableParams{TimeDomain: performance.EnableTimeDomainThreadTicks}); err != nil {
		b.Fatal(err)
	}
	before, begun := busy(b, many), time.Now()
	<-time.After(span)
	b.ReportMetric(100*(busy(b, many)-before)/time.Since(begun).Seconds(), "%thread/10000")
}

// first has a browser that was never here look at a page, and measures what it brings and when
// most of it is there.
func (s *service) first(b *testing.B, page, path, ready string, signIn bool) {
	tab, stop, err := browser.Start(b.Context(), 1280, 800)
	if err != nil {
		b.Fatal(err)
	}
	defer stop()
	if signIn {
		// Signed in already, with nothing in the browser's cache.
		if err := browser.Do(tab, chromedp.Navigate("http://"+s.listen+"/healthz"),
			chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`localStorage.setItem('unitas-token', %q)`, s.token))); err != nil {
			b.Fatal(err)
		}
	}
	if err := browser.Do(tab, chromedp.Navigate("http://"+s.listen+path)); err != nil {
		b.Fatal(err)
	}
	if err := browser.Until(tab, ready); err != nil {
		b.Fatal(err)
	}
	err = browser.Do(tab, chromedp.Evaluate[chromedp.Void](`new PerformanceObserver(l => { for (const e of l.getEntries()) window.largest = e.startTime }).observe({type: 'largest-contentful-paint', buffered: true}); undefined`))
	if err == nil {
		err = browser.Until(tab, `window.largest > 0`)
	}
	if err != nil {
		b.Fatal(err)
	}
	largest, _ := chromedp.Run(tab, chromedp.Evaluate[float64](`window.largest`))
	parts, _ := chromedp.Run(tab, chromedp.Evaluate[[]string](`performance.getEntriesByType('resource').map(e => e.name).filter(n => /assets.*\.(js|css)$/.test(n))`))
	bytes := 0
	for _, part := range parts {
		bytes += brotli(b, part)
	}
	b.ReportMetric(float64(bytes)/1e3, "kB/"+page)
	b.ReportMetric(largest/1e3, "s/"+page)
}

// brotli is how many bytes a part of the console is when it is fetched.
func brotli(b *testing.B, url string) int {
	req, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		b.Fatal(err)
	}
	req.Header.Set("Accept-Encoding", "br")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		b.Fatal(err)
	}
	defer res.Body.Close()
	n, err := io.Copy(io.Discard, res.Body)
	if err != nil || !strings.Contains(res.Header.Get("Content-Encoding"), "br") {
		b.Fatalf("%s: %v, %q", url, err, res.Header.Get("Content-Encoding"))
	}
	return int(n)
}

// busy is for how many seconds the main thread of the page has worked.
func busy(b *testing.B, tab context.Context) float64 {
	told, err := chromedp.Call(tab, performance.GetMetrics, cdp.Empty{})
	if err != nil {
		b.Fatal(err)
	}
	for _, m := range told.Metrics {
		if m.Name == "TaskDuration" {
			return m.Value
		}
	}
	b.Fatal("the browser does not tell how long it has worked")
	return 0
}
