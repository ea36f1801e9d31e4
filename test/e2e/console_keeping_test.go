package e2e

import (
	"context"
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// console opens the console signed in. step fails the test with what the page
// shows; retype replaces the text of an input; noViolations expects that the
// page's security policy had to stop nothing.
func (s *service) console() (tab context.Context, step func(string, error), retype func(selector, text string), noViolations func()) {
	t := s.t
	t.Helper()
	tab, stop, err := browser.Start(t.Context(), 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	step = func(what string, err error) {
		t.Helper()
		if err != nil {
			shown, _ := chromedp.Run(tab, chromedp.Evaluate[string](`document.body.innerText`))
			t.Fatalf("%s: %v; the page shows:\n%s", what, err, shown)
		}
	}
	retype = func(selector, text string) {
		t.Helper()
		step("the field "+selector, browser.Until(tab, fmt.Sprintf(`document.querySelector(%q) !== null`, selector)))
		step("type into "+selector, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => {
			const e = document.querySelector(%q)
			Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), 'value').set.call(e, %q)
			e.dispatchEvent(new Event('input', { bubbles: true }))
		})()`, selector, text))))
	}
	step("sign in", browser.SignIn(tab, "http://"+s.listen, s.token))
	step("note what the policy stops", browser.Do(tab, chromedp.Evaluate[chromedp.Void](
		`window.stopped = []; document.addEventListener('securitypolicyviolation', e => window.stopped.push(e.violatedDirective + ' ' + e.sourceFile + ' ' + e.sample)); undefined`)))
	return tab, step, retype, func() {
		t.Helper()
		stopped, err := chromedp.Run(tab, chromedp.Evaluate[[]string](`window.stopped`))
		step("violations", err)
		if len(stopped) != 0 {
			t.Errorf("the security policy stopped %q", stopped)
		}
	}
}

func says(text string) string { return fmt.Sprintf(`document.body.innerText.includes(%q)`, text) }

// TestConsoleKeeps makes a group by the guided form, looks at its pool, its check
// and what it costs, changes a setting after a look at what that does, acts on
// several instances at once, makes a drill, and deletes the group.
func TestConsoleKeeps(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	tab, step, retype, noViolations := s.console()
	to := func(path string) {
		t.Helper()
		step("to "+path, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('a[href=%q]').click()`, path))))
	}
	step("no groups yet", browser.Until(tab, says("No groups yet.")))
	step("make one", browser.Button(tab, "Make one…"))
	retype("#name", "Timetable")
	retype("#size", "9")
	step("review", browser.Button(tab, "Review"))
	step("all errors at once, beside their fields", browser.Until(tab, says("lower-case letter")+" && "+says("9 is not between min (1) and max")))
	retype("#name", "timetable")
	retype("#size", "3")
	step("review once more", browser.Button(tab, "Review"))
	step("the review", browser.Until(tab, says("It gets no requests.")+" && "+says("timetable launches 3 of timetable-web@")))
	step("make it", browser.Button(tab, "Make timetable"))
	step("its progress", browser.Until(tab, `document.querySelector('[data-testid=sentence]')?.textContent.startsWith('3 of 3 serving')
		|| document.querySelector('[data-testid=sentence]')?.textContent.includes('coming up')`))
	// The latest template never becomes healthy: it is changed for new launches.
	setting := func(title string) {
		t.Helper()
		step("change "+title, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('[aria-label="Change %s"]').click()`, title))))
	}
	whatever, good, none := "*", "timetable-web@1", 0
	pools := []string{"front"}
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever},
		contract.GroupChange{Template: &good, Size: &none, Min: &none, Pools: &pools})))
	s.whole(0)
	three := 3
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &three})))
	s.whole(3)
	setting("Size")
	retype(".ant-modal #size", "4")
	step("what it does", browser.Until(tab, says("1 instance is launched, on timetable-web@1")))
	step("change it", browser.Button(tab, "Change it"))
	step("it is changed", browser.Until(tab, says("4 of 4 serving, between 0 and")))

	step("select all", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('thead .ant-checkbox-input').click()`)))
	step("with them", browser.Button(tab, "With 4 instances…"))
	step("the acts", browser.Until(tab, says("Pin: nothing removes them")))
	step("pin", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.ant-dropdown-menu-item')].find(e => e.textContent.startsWith('Pin')).click()`)))
	step("all are pinned", browser.Until(tab, `[...document.querySelectorAll('td')].filter(e => e.textContent === 'serving, pinned').length === 4`))

	step("a drill", browser.Button(tab, "Drill…"))
	step("its warning", browser.Until(tab, says("This is done to a real instance")))
	step("start it", browser.Button(tab, "Start the drill"))
	step("it is told on the page", browser.Until(tab, says("Drill 1: ")+" && "+says("hangs for 1 m")))
	step("and on its slip", browser.Until(tab, `document.querySelectorAll('.slip[aria-label*="a drill: "]').length === 1`))
	step("stop it", browser.Button(tab, "Stop it"))
	step("it is over", browser.Until(tab, `document.querySelector('.drills') === null`))

	to("/pools")
	step("the pools", browser.Until(tab, says("1 pool.")))
	to("/pools/front")
	step("the pool", browser.Until(tab, says("4 of 4 targets get requests.")))
	step("change the pool", browser.Button(tab, "Change…"))
	step("a share, in a row", browser.Button(tab, "Add a share"))
	retype(`[aria-label="Weight of share 1"]`, "50")
	step("a weight, in a row", browser.Button(tab, "Add a weight"))
	retype(`[aria-label="Weight 1"]`, "40")
	retype(".ant-modal #reason", "the berth is small")
	step("change it", browser.Button(tab, "Change it"))
	step("is taken", browser.Until(tab, says("timetable 50")+" && /timetable-00. 40/.test(document.body.innerText)"))
	step("it cannot go", browser.Until(tab, says("It can be removed once timetable names it no more.")))
	// Another one, and its check: made, unmistakable without targets, and removed.
	to("/checks")
	step("its page", browser.Until(tab, says("1 check")))
	step("a new check", browser.Button(tab, "Make one…"))
	retype(".ant-modal #name", "berths-up")
	retype(".ant-modal #path", "/berths")
	step("make it", browser.Button(tab, "Make it"))
	step("it is there", browser.Until(tab, says("http port 8080 for /berths, good are 200-299")))
	to("/pools")
	step("its page", browser.Until(tab, says("1 pool.")))
	step("a new pool", browser.Button(tab, "Make one…"))
	retype(".ant-modal #name", "berths")
	step("its checks", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.ant-modal #check').closest('.ant-select').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`)))
	step("are offered", browser.Until(tab, `[...document.querySelectorAll('.ant-select-item-option')].some(o => o.textContent === 'berths-up')`))
	step("one", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.ant-select-item-option')].find(o => o.textContent === 'berths-up').click()`)))
	step("make the pool", browser.Button(tab, "Make it"))
	step("nobody gets its requests", browser.Until(tab, `document.querySelector('[data-testid=band]')?.textContent.includes('Nobody gets requests: the pool has no targets') && document.title.startsWith('■ 0/0 berths')`))
	remove := func(what string) {
		t.Helper()
		step("remove "+what, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('[aria-label="Remove %s"]').click()`, what))))
		step("what goes", browser.Until(tab, `document.querySelector('.ant-popconfirm:not(.ant-popover-hidden) .ant-btn-dangerous') !== null`))
		step("remove it", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.ant-popconfirm:not(.ant-popover-hidden) .ant-btn-dangerous').click()`)))
	}
	remove("berths")
	step("the pool is gone", browser.Until(tab, says("1 pool.")))
	to("/checks")
	step("both checks", browser.Until(tab, says("2 checks")))
	step("more of it", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.ant-table-row-expand-icon').click()`)))
	step("it judges nobody", browser.Until(tab, says("It judges nobody.")))
	remove("berths-up")
	step("the check is gone", browser.Until(tab, says("1 check")+" && !"+says("berths-up")))
	to("/checks")
	step("the checks", browser.Until(tab, says("1 check")+" && "+says("http port 8080 for /up")))
	step("who uses it", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.ant-table-row-expand-icon').click()`)))
	step("is named", browser.Until(tab, says("the group timetable")))
	step("change the check", browser.Button(tab, "Change…"))
	retype(".ant-modal #fails", "7")
	step("whom it affects", browser.Until(tab, says("It applies at once to all that it judges: the group timetable and the pool front.")))
	step("change it too", browser.Button(tab, "Change it"))
	step("the check is changed", browser.Until(tab, `[...document.querySelectorAll('td')].some(e => e.textContent === '7')`))
	to("/costs")
	step("the costs", browser.Until(tab, `document.querySelectorAll('tbody td').length > 0 && `+says("per hour")))

	to("/")
	step("the groups", browser.Until(tab, says("The group is well")))
	to("/groups/timetable")
	step("not while it is pinned", browser.Until(tab, says("The group cannot be deleted while timetable-004, timetable-005, timetable-006 and timetable-007 are pinned; unpin them first.")))
	for _, id := range []string{"timetable-004", "timetable-005", "timetable-006", "timetable-007"} {
		must[contract.Instance](t)(client.Read[contract.Instance](s.api.TellInstance(ctx, id, &contract.TellInstanceParams{IfMatch: &whatever}, contract.InstanceCommand{Command: contract.InstanceCommandCommandUnpin})))
	}
	step("delete", browser.Button(tab, "Delete the group…"))
	step("all that goes", browser.Until(tab, says("4 instances in east-pier, mid-pier, west-pier drain and stop, leave front, and the group goes.")))
	step("it can go now", browser.Until(tab, `document.querySelector('.ant-popconfirm:not(.ant-popover-hidden) .ant-btn-dangerous') !== null`))
	step("delete it now", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.ant-popconfirm .ant-btn-dangerous').click()`)))
	step("it is gone", browser.Until(tab, says("There is no group timetable.")))
	noViolations()
}
