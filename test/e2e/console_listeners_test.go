package e2e

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// TestConsoleListeners makes a listener, gives it a route, asks where a request would go, sees
// the access log and what was refused, changes it, and closes it.
func TestConsoleListeners(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(1)
	must[contract.Pool](t)(client.Read[contract.Pool](s.api.CreatePool(ctx, nil, contract.NewPool{Name: "fares", Check: "sailings-up"})))
	tab, step, retype, noViolations := s.console()
	run := func(what, js string) {
		t.Helper()
		step(what, browser.Do(tab, chromedp.Evaluate[chromedp.Void](js)))
	}
	choose := func(what, field, value string) {
		t.Helper()
		run("open "+what, fmt.Sprintf(`document.querySelector('.ant-modal #%s').closest('.ant-select').dispatchEvent(new MouseEvent('mousedown', {bubbles: true}))`, field))
		step(what, browser.Until(tab, fmt.Sprintf(`[...document.querySelectorAll('.ant-select-item-option')].some(o => o.textContent.startsWith(%q))`, value)))
		run("choose "+value, fmt.Sprintf(`[...document.querySelectorAll('.ant-select-item-option')].find(o => o.textContent.startsWith(%q)).click()`, value))
	}
	run("to the listeners", `document.querySelector('a[href="/listeners"]').click()`)
	step("the one of the pool", browser.Until(tab, says("1 listener.")+" && "+says("Sends requests to front.")))
	step("a new one", browser.Button(tab, "New listener…"))
	step("its form", browser.Until(tab, `document.querySelector('.ant-modal #address') !== null`))
	retype(".ant-modal #address", "nowhere")
	step("make it", browser.Button(tab, "Make it"))
	step("what is wrong", browser.Until(tab, says("is not an address with a port")+" && "+says("it would answer everything 404")))
	retype(".ant-modal #address", s.back)
	choose("its pool", "pool", "front")
	choose("the access log", "keep", "all requests")
	step("make it at last", browser.Button(tab, "Make it"))
	step("its page", browser.Until(tab, says("http://"+s.back)+" && "+says("Sends requests to front.")))
	step("change routes", browser.Button(tab, "Change routes…"))
	step("add one", browser.Button(tab, "Add a route"))
	step("its fields", browser.Until(tab, `document.querySelector('.ant-modal #routes_0_path') !== null`))
	retype(".ant-modal #routes_0_path", "/fares")
	choose("where it goes", "routes_0_pool", "fares")
	step("what it changes is said before", browser.Until(tab, says("route 1. /fares → fares is new")))
	step("change them", browser.Button(tab, "Change them"))
	step("the route is there", browser.Until(tab, says("path /fares")+" && "+says("Sends requests by 1 route, and the rest to front.")))
	step("where would it go", browser.Button(tab, "Where would it go?"))
	step("to the one target", browser.Until(tab, says("timetable-00")+" && "+says("is the next in turn")))
	for path, want := range map[string]int{"/": http.StatusOK, "/fares/7": http.StatusServiceUnavailable} {
		res, err := http.Get("http://" + s.back + path)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		if res.StatusCode != want {
			t.Errorf("%s is answered %d", path, res.StatusCode)
		}
	}
	step("the access log", browser.Until(tab, says("GET /fares/7")+" && "+says("no target is healthy")))
	// Read anew the page is the same: an address is no file.
	step("read it anew", browser.Do(tab, chromedp.Reload()))
	step("the same page", browser.Until(tab, says("path /fares")))
	// Somebody else changes the routes meanwhile: it is told what, and nothing of theirs is lost.
	step("change routes again", browser.Button(tab, "Change routes…"))
	step("its fields again", browser.Until(tab, `document.querySelector('.ant-modal #headers-0-add') !== null`))
	run("a header", `document.querySelector('.ant-modal #headers-0-add').click()`)
	step("its row", browser.Until(tab, `document.querySelector('.ant-modal #headers-0-0-name') !== null`))
	retype(".ant-modal #headers-0-0-name", "X-Trial")
	step("what it changes", browser.Until(tab, says("route 1. /fares, header X-Trial → fares is new")+" && "+says("route 1. /fares → fares is gone")))
	whatever, old := "*", "/old"
	l := must[contract.Listener](t)(client.Read[contract.Listener](s.api.GetListener(ctx, s.back)))
	must[contract.Listener](t)(client.Read[contract.Listener](s.api.ChangeListener(ctx, s.back, &contract.ChangeListenerParams{IfMatch: &whatever},
		contract.ListenerChange{Routes: &[]contract.Route{l.Routes[0], {Path: &old, Pool: "front"}}})))
	step("the page has it", browser.Until(tab, says("path /old")))
	step("change them too", browser.Button(tab, "Change them"))
	step("it is told", browser.Until(tab, says("Somebody changed it while you looked")+" && "+says("and is 1. path /fares → fares; 2. path /old → front")))
	step("from how it is", browser.Button(tab, "Go on from how it is now"))
	step("both are there", browser.Until(tab, `document.querySelector('.ant-modal #routes_1_path')?.value === '/old'`))
	step("leave it", browser.Button(tab, "Cancel"))
	step("it closes", browser.Until(tab, `document.querySelector('.ant-modal #routes_1_path') === null || !document.querySelector('.ant-modal #routes_1_path').checkVisibility()`))
	step("change it", browser.Button(tab, "Change…"))
	step("the form", browser.Until(tab, `document.querySelector('.ant-modal #requestRate') !== null`))
	retype(".ant-modal #requestRate", "2")
	step("so many a second", browser.Button(tab, "Change it"))
	step("is told", browser.Until(tab, says("2 requests a second of one address")))
	refused := 0
	for range 6 {
		if res, err := http.Get("http://" + s.back + "/"); err == nil {
			res.Body.Close()
			if res.StatusCode == http.StatusTooManyRequests {
				refused++
			}
		}
	}
	if refused == 0 {
		t.Error("nothing is refused")
	}
	step("what was refused", browser.Until(tab, says("passed a limit")))
	run("remove it", fmt.Sprintf(`document.querySelector('[aria-label="Remove %s"]').click()`, s.back))
	step("what goes", browser.Until(tab, says("It takes no new connections; what is under way goes on.")))
	step("close it", browser.Button(tab, "Remove it"))
	step("it is gone", browser.Until(tab, says("1 listener.")))
	if _, err := http.Get("http://" + s.back + "/"); err == nil || !strings.Contains(err.Error(), "refused") {
		t.Errorf("it still takes requests: %v", err)
	}
	// How the targets of a pool are spoken to is changed on its page.
	run("to the pools", `document.querySelector('a[href="/pools"]').click()`)
	step("the pools", browser.Until(tab, says("2 pools")))
	run("to the pool", `document.querySelector('a[href="/pools/front"]').click()`)
	step("its settings", browser.Until(tab, says("only what refuses")))
	step("change the pool", browser.Button(tab, "Change…"))
	step("its form", browser.Until(tab, `document.querySelector('.ant-modal #failures') !== null`))
	retype(".ant-modal #failures", "5")
	choose("affinity", "affinityBy", "cookie")
	step("change it", browser.Button(tab, "Change it"))
	step("it is told", browser.Until(tab, says("after 5 failures in a row")+" && "+says("by a cookie")))
	noViolations()
}
