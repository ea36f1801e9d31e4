package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// TestConsoleShowsTrouble: a group of which nothing serves is unmistakable in the headline,
// the tab's title, the groups page and its own; a failed new instance is one click away, with
// its boot log; and what was looked for stands in the address.
func TestConsoleShowsTrouble(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	settle, heal, least := 1.0, "sailings-up", 0
	must[contract.Group](t)(client.Read[contract.Group](s.api.CreateGroup(ctx, nil, contract.NewGroup{Name: "fares", Template: "timetable-web@3",
		Size: 1, Min: &least, Heal: &heal, SettleSeconds: &settle})))
	tab, step, _, noViolations := s.console()
	step("the headline", browser.Until(tab, says("Nothing of fares serves")+` && document.title.startsWith('▲ 1 of 2 groups')`))
	step("its row", browser.Until(tab, `document.querySelector('.group-row.stands-down .figure').textContent.includes('■ 0 of 1')`))
	step("the worst first", browser.Until(tab, `document.querySelector('.group-row h2').textContent === 'fares'`))
	step("what it needs", browser.Until(tab, `document.querySelector('.needs')?.textContent.includes('failed again and again')`))
	click := func(what string) {
		t.Helper()
		step("to "+what, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector(%q).click()`, what))))
	}
	click(`a[href="/groups/fares"]`)
	step("the band", browser.Until(tab, `document.querySelector('[data-testid=band]')?.textContent.includes('nothing serves: 0 of 1 serving') && document.title.startsWith('■ 0/1 fares')`))
	step("its failed instance", browser.Until(tab, `document.querySelector('[aria-label="A slot that fails"] a[href^="/instances/fares-"]') !== null`))
	click(`[aria-label="A slot that fails"] a`)
	step("its page", browser.Until(tab, says("Of the group fares: gone")+` && document.querySelector('[data-testid=boot-log]')?.textContent.length > 10`))
	step("its journal", browser.Until(tab, `document.querySelectorAll('.journal li').length > 3`))
	click(`a[href="/groups/fares"]`)
	step("back at the group", browser.Until(tab, `document.querySelector('[data-testid=band]') !== null`))
	click(`a[href="/groups"], a[href="/"]`)
	step("a group that is well", browser.Until(tab, `document.querySelector('a[href="/groups/timetable"]') !== null`))
	click(`a[href="/groups/timetable"]`)
	step("its slips", browser.Until(tab, `document.querySelectorAll('a.slip[data-state=serving]').length === 4 && document.title.startsWith('4/4 timetable')`))
	step("no band", browser.Until(tab, `document.querySelector('[data-testid=band]') === null`))
	click(`a.slip`)
	step("an instance that serves", browser.Until(tab, says("serving, healthy for")+` && document.title.includes('serving')`))
	step("a command", browser.Do(tab, chromedp.SendKeys(`input[aria-label=Command]`, "cat season\n")))
	step("what it wrote", browser.Until(tab, `document.querySelector('[aria-label="What it wrote"]')?.textContent.length > 0`))
	step("a shell", browser.Button(tab, "Open a shell"))
	step("its prompt", browser.Until(tab, `/timetable-00\d \$/.test(document.querySelector('.xterm-rows')?.textContent)`))
	step("typed into it", browser.Do(tab, chromedp.KeyEvent("echo sum-$((40+2)) $UNITAS_INSTANCE\r")))
	step("what it shows", browser.Until(tab, `/sum-42 timetable-00\d/.test(document.querySelector('.xterm-rows').textContent)`))
	step("a way out by keys", browser.Do(tab, chromedp.KeyEvent(kb.Tab, chromedp.KeyModifiers(chromedp.ModifierShift))))
	step("out of it", browser.Until(tab, `document.activeElement.closest('.screen') === null`))
	// To leave would end it, and is asked for.
	click(`a[href="/pools"]`)
	step("it asks", browser.Until(tab, says("Leave the shell on timetable-00")+" && "+says("It ends with this page")))
	step("stay", browser.Button(tab, "Stay"))
	step("it is there", browser.Until(tab, `document.querySelector('.ant-modal-title') === null && location.pathname.startsWith('/instances/') && document.querySelector('.xterm-rows') !== null`))
	step("back in it", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.xterm-helper-textarea').focus()`)))
	step("its end", browser.Do(tab, chromedp.KeyEvent("exit 5\r")))
	step("is told", browser.Until(tab, says("▲ The shell is over: it ended with status 5.")))
	step("an image of it", browser.Button(tab, "Make an image while it serves"))
	step("its name", browser.Do(tab, chromedp.WaitVisible(".ant-modal input"), chromedp.SendKeys(".ant-modal input", "seen\n")))
	step("it is made", browser.Until(tab, `location.pathname === '/images/seen/1'`))
	step("all instances", browser.Do(tab, chromedp.Click(`a[href="/instances"]`)))
	step("by group", browser.Until(tab, says("4 of")+` && document.querySelectorAll('td a[href="/groups/timetable"]').length === 4`))
	step("look for a zone", browser.Do(tab, chromedp.SendKeys(`input[aria-label="Search instances"]`, "east-pier")))
	step("it stands in the address", browser.Until(tab, `location.search === '?find=east-pier' && document.querySelectorAll('td a[href="/groups/timetable"]').length === 2`))
	noViolations()
}

// TestConsoleTellsWhySignInEnded: a token that is not known any more is said so over the page,
// which keeps what was typed; one sign-in serves all tabs.
func TestConsoleTellsWhySignInEnded(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	tab, step, _, _ := s.console()
	step("to a form", browser.Do(tab, chromedp.Navigate("http://"+s.listen+"/new-group")))
	step("the sign-in serves what is opened next", browser.Until(tab, `document.querySelector('#name') !== null`))
	step("type", browser.Do(tab, chromedp.SendKeys("#name", "fares")))
	step("the token is gone", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`localStorage.setItem('unitas-token', 'nope'); undefined`)))
	step("it is said", browser.Until(tab, says("does not know this token any more")+` && document.querySelector('#name').value === 'fares'`))
	step("sign in again", browser.Do(tab, chromedp.SendKeys("input[type=password]", s.token+"\n")))
	step("all is as it was", browser.Until(tab, `document.querySelector('.over') === null && document.querySelector('#name').value === 'fares'`))
}

// TestConsoleForEverybody holds every page, light and dark, against the rules of axe, and
// looks for sideways scrolling at three widths.
func TestConsoleForEverybody(t *testing.T) {
	t.Parallel() // it has a service and a browser of its own
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal("axe is not there; run: make build")
	}
	s := start(t)
	s.stock()
	s.group(20)
	tab, step, _, _ := s.console()
	pages := []string{"/", "/groups/timetable", "/new-group", "/instances", "/instances/timetable-001", "/tickets", "/listeners", "/pools", "/pools/front", "/checks", "/courses",
		"/notices", "/templates", "/templates/timetable-web", "/templates/new", "/images", "/images/timetable/1", "/costs", "/services", "/nothing-here"}
	for _, mode := range []string{"light", "dark"} {
		step("choose "+mode, browser.Do(tab, chromedp.Evaluate[chromedp.Void](`localStorage.setItem('unitas-mode', '`+mode+`'); undefined`)))
		for _, page := range pages {
			step("to "+page, browser.Do(tab, chromedp.Navigate("http://"+s.listen+page)))
			step("all of "+page, browser.Until(tab, `document.querySelector('main:not([aria-busy])') !== null && document.querySelector('.loading') === null && (document.querySelector('h1')?.innerText ?? '').trim() !== '' && document.body.innerText.includes('● live')`))
			found, err := chromedp.Run(tab, chromedp.Evaluate[string](string(axe)+`;
				axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.map(v =>
					v.id + ': ' + v.help + ' ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(' | ')).join('\n'))`, chromedp.EvalAwaitPromise))
			step("look at "+page, err)
			if found != "" {
				t.Errorf("%s in %s:\n%s", page, mode, found)
			}
			if mode == "dark" {
				continue // it is as wide
			}
			for _, width := range []int64{1024, 768, 400} {
				step("a width", browser.Do(tab, chromedp.EmulateViewport(width, 800)))
				wide, err := chromedp.Run(tab, chromedp.Evaluate[string](`(() => {
					const over = document.documentElement.scrollWidth - window.innerWidth;
					if (over <= 0) return '';
					const by = [...document.querySelectorAll('main *, header *')].filter(e => e.getBoundingClientRect().right > window.innerWidth + 1).slice(0, 4);
					return over + ' by ' + by.map(e => e.tagName + '.' + e.className).join(', ') })()`))
				step("its width", err)
				if wide != "" {
					t.Errorf("%s scrolls sideways at %d: %s", page, width, strings.TrimSpace(wide))
				}
			}
			step("the usual width", browser.Do(tab, chromedp.EmulateViewport(1280, 800)))
		}
	}
}
