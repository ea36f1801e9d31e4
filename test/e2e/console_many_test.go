package e2e

import (
	"context"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"unitas/test/e2e/browser"
)

// multiplied stands in a page for the answer about instances: ten thousand made of the real
// ones, of which a hundred are other with each answer that follows.
const multiplied = `(() => {
	const real = window.fetch
	let n = 0
	window.fetch = async (...args) => {
		const url = typeof args[0] === 'string' ? args[0] : args[0].url
		if (url.endsWith('/v1/drills'))
			return new Response(JSON.stringify({ items: [{ number: 1, kind: 'hang', instance: 'timetable-1000', what: 'it hangs for a minute', by: 'admin', begun_at: new Date().toISOString(), ends_at: new Date(Date.now() + 60000).toISOString() }] }),
				{ status: 200, headers: { 'Content-Type': 'application/json' } })
		const res = await real(...args)
		if (!url.includes('/v1/instance-changes')) return res
		const told = await res.clone().json()
		if (told.items.length > 0) window.kinds = told.items
		const make = (k, why) => ({ ...window.kinds[k % window.kinds.length], id: 'timetable-' + (4096 + k).toString(16), why,
			zone: ['east-pier', 'mid-pier', 'west-pier'][k % 3], verdict: k === 7000 || k === 9001 ? 'unhealthy' : 'healthy' })
		const whole = n === 0
		const items = Array.from({ length: whole ? 10000 : 100 }, (_, k) => make(whole ? k : (n * 100 + k) % 10000, 'look ' + n))
		n++
		return new Response(JSON.stringify({ cursor: 'x-' + n, complete: whole, items, gone: [], in_flight: {} }), { status: 200, headers: { 'Content-Type': 'application/json' } })
	}
})()`

// tenThousand opens the page of the group as if it had so many instances.
func (s *service) tenThousand(t testing.TB) (many context.Context, stop func()) {
	t.Helper()
	many, stop, err := browser.Start(t.Context(), 1280, 800)
	if err == nil {
		err = browser.SignIn(many, "http://"+s.listen, s.token)
	}
	if err == nil {
		_, err = chromedp.Call(many, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: multiplied})
	}
	if err == nil {
		err = browser.Do(many, chromedp.Navigate("http://"+s.listen+"/groups/timetable"))
	}
	if err == nil {
		err = browser.Until(many, `document.querySelector('[data-testid=slip-field]') !== null`)
	}
	if err != nil {
		t.Fatal(err)
	}
	return many, stop
}

// TestConsoleShowsTenThousand: their slips are painted, and still each is reached by keys and
// by pointer, and told in words; and those in trouble are found.
func TestConsoleShowsTenThousand(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	tab, stop := s.tenThousand(t)
	defer stop()
	step := func(what string, err error) {
		t.Helper()
		if err != nil {
			shown, _ := chromedp.Run(tab, chromedp.Evaluate[string](`document.body.innerText.slice(0, 3000)`))
			t.Fatalf("%s: %v; the page shows:\n%s", what, err, shown)
		}
	}
	step("a zone in words", browser.Until(tab, `[...document.querySelectorAll('section[aria-label="Instances by zone"] ul.unseen li')].map(e => e.textContent).join('; ').includes('mid-pier: 3,333 instances, 3,331 serving, 2 unhealthy')`))
	step("no element for each", browser.Until(tab, `document.querySelectorAll('.slip').length === 0 && document.querySelectorAll('*').length < 4000`))
	step("painted", browser.Until(tab, `(() => { const c = document.querySelector('.slip-field canvas'); const p = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let n = 0; for (let i = 3; i < p.length; i += 4) if (p[i] > 0) n++; return n > p.length / 4 * 0.4 })()`))
	step("only as large as what is seen", browser.Until(tab, `document.querySelector('.slip-field canvas').clientHeight <= 440`))
	over := func(js string) string {
		return `(() => { const e = document.querySelector('.slip-over'); return ` + js + ` })()`
	}
	step("the first", browser.Until(tab, over(`e.getAttribute('aria-label').startsWith('timetable-1000, timetable-web@1 in east-pier, serving')`)))
	step("a drill is told", browser.Until(tab, over(`e.getAttribute('aria-label').endsWith('; a drill: it hangs for a minute')`)))
	step("and marked", browser.Until(tab, `(() => {
		const c = document.querySelector('.slip-field canvas').getContext('2d'), slip = k => [...c.getImageData(90 + 30 * k, 0, 26, 22).data].join()
		return slip(0) !== slip(1) && slip(1) === slip(2)
	})()`))
	step("focus", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.slip-over').focus(); undefined`), chromedp.KeyEvent(kb.ArrowRight)))
	step("the second", browser.Until(tab, over(`e === document.activeElement && e.getAttribute('aria-label').startsWith('timetable-1003,')`)))
	step("to the last", browser.Do(tab, chromedp.KeyEvent(kb.End)))
	step("it is seen", browser.Until(tab, over(`e.getAttribute('aria-label').startsWith('timetable-370e,') && e.getBoundingClientRect().bottom <= document.querySelector('.slip-field').getBoundingClientRect().bottom`)))
	step("to one in trouble", browser.Do(tab, chromedp.KeyEvent("n")))
	step("it is in trouble", browser.Until(tab, over(`/^timetable-(2b58|3329), .* unhealthy/.test(e.getAttribute('aria-label'))`)))
	first, _ := chromedp.Run(tab, chromedp.Evaluate[string](over(`e.getAttribute('aria-label')`)))
	step("to the other", browser.Do(tab, chromedp.KeyEvent("n")))
	step("it is in trouble too", browser.Until(tab, over(`e.getAttribute('aria-label') !== `+quoted(first)+` && e.getAttribute('aria-label').includes('unhealthy')`)))
	step("point at one", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`(() => { const f = document.querySelector('.slip-field'); f.scrollTop = 0; const r = f.firstElementChild.getBoundingClientRect(); f.firstElementChild.dispatchEvent(new MouseEvent('mousemove', { bubbles: true, clientX: r.left + 95, clientY: r.top + 4 })) })()`)))
	step("it is told", browser.Until(tab, `document.querySelector('.slip-field .tip')?.textContent.startsWith('timetable-1000,')`))
	step("open it", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`(() => { const f = document.querySelector('.slip-field').firstElementChild; const r = f.getBoundingClientRect(); f.dispatchEvent(new MouseEvent('click', { bubbles: true, clientX: r.left + 130, clientY: r.top + 4 })) })()`)))
	step("its page", browser.Until(tab, `location.pathname === '/instances/timetable-1003'`))
}

func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", "\\'") + "'" }
