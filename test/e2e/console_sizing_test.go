package e2e

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// TestConsoleRulesAndNotices makes a rule by its form after a look at it, tries it and has it act,
// reads the chart by keyboard, makes a calendar that is shown before it is made, replays the
// rules, and has somebody hear, which is tested.
func TestConsoleRulesAndNotices(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(1)
	tab, step, retype, noViolations := s.console()
	run := func(what, js string) {
		t.Helper()
		step(what, browser.Do(tab, chromedp.Evaluate[chromedp.Void](js)))
	}
	there := func(what, selector, text string) {
		t.Helper()
		step(what, browser.Until(tab, fmt.Sprintf(`[...document.querySelectorAll(%q)].some(e => e.textContent.includes(%q))`, selector, text)))
	}
	click := func(label string) {
		t.Helper()
		step(label+" is there", browser.Until(tab, fmt.Sprintf(`document.querySelector('[aria-label="%s"]') !== null`, label)))
		run(label, fmt.Sprintf(`document.querySelector('[aria-label="%s"]').click()`, label))
	}
	rules := func() []contract.Rule {
		return must[contract.Group](t)(client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))).Rules
	}

	run("open the group", `history.pushState({}, '', '/groups/timetable'); dispatchEvent(new PopStateEvent('popstate'))`)
	there("no rule", "p", "No rule changes its size.")
	step("add a rule", browser.Button(tab, "Add a rule…"))
	retype(".ant-modal #name", "even")
	retype(".ant-modal #keep_at", "50")
	step("look at it", browser.Button(tab, "Look at it"))
	there("what it means", "[data-testid=rule-review]", "steady cpu at 50 %, band 10 %, calm 5 m, shrink-rate 20 % a minute")
	if n := len(rules()); n != 0 {
		t.Fatalf("%d rules were made before the look at it was over", n)
	}
	step("make it", browser.Button(tab, "Make it"))
	there("the rule", "td", "steady cpu at 50 %")
	if all := rules(); len(all) != 1 || all[0].Name != "even" || *all[0].Settings.KeepAt != 50 {
		t.Fatalf("the rules are %+v", all)
	}

	click("Try even")
	retype(".ant-modal [aria-label=Value]", "100")
	run("show", `[...document.querySelectorAll('.ant-modal button')].find(b => b.textContent.trim() === 'Show').click()`)
	there("what it would do", "[data-testid=tried]", "the size would be 8 instead of 4")
	step("do it", browser.Button(tab, "Do it…"))
	there("what is asked", ".ant-popover", "The journal names you, the rule and the value.")
	step("yes", browser.Button(tab, "Make it 8"))
	there("done", ".ant-modal p", "Done: the size is 8 now.")
	run("close", `document.querySelector('.ant-modal-close').click()`)
	there("who set it", "[data-testid=sizing]", "The size is 8, between 1 and 9; even set it last")

	step("the chart", browser.Until(tab, `document.querySelector('.chart canvas') !== null`))
	run("read it by keyboard", `{ const c = document.querySelector('.chart [role=application]'); c.focus(); c.dispatchEvent(new KeyboardEvent('keydown', { key: 'End', bubbles: true })) }`)
	there("the newest point", ".chart-says", "size 8")
	run("as a table", `document.querySelector('.chart summary').click()`)
	there("the table", ".chart-table th", "size")

	step("add another", browser.Button(tab, "Add a rule…"))
	retype(".ant-modal #name", "mornings")
	run("its kinds", `document.querySelector('#rule-kind').closest('.ant-select').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`)
	step("a calendar is offered", browser.Until(tab, `[...document.querySelectorAll('.ant-select-item-option')].some(e => e.textContent.startsWith('calendar'))`))
	run("a calendar", `[...document.querySelectorAll('.ant-select-item-option')].find(e => e.textContent.startsWith('calendar')).click()`)
	step("its fields", browser.Until(tab, `document.querySelector('.ant-modal #when') !== null`))
	retype(".ant-modal #time_zone", "Europe/Paris")
	retype(".ant-modal #min", "3")
	step("look at it", browser.Button(tab, "Look at it"))
	step("ten times", browser.Until(tab, `document.querySelectorAll('[data-testid=rule-review] li').length === 10`))
	step("make it", browser.Button(tab, "Make it"))
	there("the calendar", "td", "min 3 for 4 h")
	step("replay", browser.Button(tab, "Replay…"))
	step("an hour", browser.Button(tab, "the last hour"))
	step("what would have been", browser.Until(tab, `document.querySelector('[data-testid=replayed]') !== null || document.querySelector('.ant-modal .trouble, .ant-modal [role=alert]') !== null`))
	run("close", `document.querySelectorAll('.ant-modal-close').forEach(e => e.click())`)
	click("Remove mornings")
	step("remove it", browser.Button(tab, "Remove it"))
	step("it is gone", browser.Until(tab, `document.querySelector('[aria-label="Remove mornings"]') === null`))

	run("open the notices", `history.pushState({}, '', '/notices'); dispatchEvent(new PopStateEvent('popstate'))`)
	there("nobody is told", ".sentence", "Nobody is told of anything.")
	step("have somebody hear", browser.Button(tab, "Have somebody hear…"))
	retype(".ant-modal #name", "board")
	run("how", `document.querySelector('#how').closest('.ant-select').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`)
	step("by message is offered", browser.Until(tab, `[...document.querySelectorAll('.ant-select-item-option')].some(e => e.textContent.startsWith('by signed'))`))
	run("by message", `[...document.querySelectorAll('.ant-select-item-option')].find(e => e.textContent.startsWith('by signed')).click()`)
	step("its address", browser.Until(tab, `document.querySelector('.ant-modal #send') !== null`))
	retype(".ant-modal #send", "http://127.0.0.1:9/hear")
	step("make it", browser.Button(tab, "Make it"))
	there("the notice", "td", "http://127.0.0.1:9/hear")
	click("Messages of board")
	step("send a test", browser.Button(tab, "Send a test"))
	there("it is not delivered", "[data-testid=sent]", "Not delivered")
	there("it says so", ".sentence", "1 of 1 are not delivered.")
	noViolations()
}
