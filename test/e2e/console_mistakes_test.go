package e2e

import (
	"fmt"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// TestConsoleAsksFirst makes a group with a new template by the form: nothing is there
// before the review is answered. A change that takes much of what serves is asked for
// once more; what one person changed, another does not overwrite unseen.
func TestConsoleAsksFirst(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	tab, step, retype, noViolations := s.console()
	step("make one", browser.Button(tab, "Make one…"))
	retype("#name", "berths")
	step("a new template", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('#template').closest('.ant-select').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`)))
	step("is offered", browser.Until(tab, `[...document.querySelectorAll('.ant-select-item-option')].some(e => e.textContent === 'a new template')`))
	step("is chosen", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.ant-select-item-option')].find(e => e.textContent === 'a new template').click()`)))
	step("its fields", browser.Until(tab, `document.querySelector('#newTemplate') !== null`))
	retype("#newTemplate", "berths-api")
	step("its image", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('#image').closest('.ant-select').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`)))
	step("the images", browser.Until(tab, `[...document.querySelectorAll('.ant-select-item-option')].some(e => e.textContent === 'timetable@1')`))
	step("one", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.ant-select-item-option')].find(e => e.textContent === 'timetable@1').click()`)))
	healing, err := chromedp.Run(tab, chromedp.Evaluate[string](`document.querySelector('#heal').closest('.ant-select').textContent`))
	step("what heals", err)
	if healing != "machine: when it is gone" {
		t.Errorf("the form chooses to heal by %q", healing)
	}
	step("review", browser.Button(tab, "Review"))
	step("the review", browser.Until(tab, says("berths launches 3 of berths-api@1")+" && "+says("The template berths-api@1 is made with it and launches timetable@1.")))
	if _, _, err := client.Read[contract.Template](s.api.GetTemplate(ctx, "berths-api", "1")); !client.Is(err, "not-found") {
		t.Errorf("the template is there before the review is answered: %v", err)
	}
	step("make it", browser.Button(tab, "Make berths"))
	step("its page", browser.Until(tab, `document.querySelector('h1')?.textContent === 'berths'`))
	must[contract.Template](t)(client.Read[contract.Template](s.api.GetTemplate(ctx, "berths-api", "1")))

	open := func(path string) {
		t.Helper()
		step("open "+path, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`history.pushState({}, '', %q); dispatchEvent(new PopStateEvent('popstate'))`, path))))
	}
	open("/groups/timetable")
	step("the group", browser.Until(tab, `document.querySelector('[data-testid=sentence]')?.textContent.startsWith('4 of 4 serving')`))
	setting := func(title string) {
		t.Helper()
		step("change "+title, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('[aria-label="Change %s"]').click()`, title))))
	}
	setting("Size")
	retype(".ant-modal #size", "2")
	step("it is said what goes", browser.Until(tab, says("2 of the 4 that serve are drained and stopped at once, more than one in three")+" && "+says("the pool front keeps 2 of its 4 targets of this group")))
	step("change it", browser.Button(tab, "Change it"))
	step("it is asked once more", browser.Until(tab, says("Do it all the same")))
	if g := must[contract.Group](t)(client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))); g.Size != 4 {
		t.Errorf("it was changed without being asked: %d", g.Size)
	}
	step("leave it", browser.Button(tab, "Cancel"))

	setting("Drain")
	retype(".ant-modal #drain_seconds", "9")
	whatever, drain, size := "*", 7.0, 5
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{DrainSeconds: &drain, Size: &size})))
	step("change it", browser.Button(tab, "Change it"))
	step("it is refused, with what changed meanwhile", browser.Until(tab, says("Somebody changed it while you looked, so nothing of yours was changed.")+
		" && "+says("Drain was 5 and is 7")+" && "+says("Size was min 1, size 4, max 9 and is min 1, size 5, max 9")))
	if g := must[contract.Group](t)(client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))); g.DrainSeconds != 7 {
		t.Errorf("it was overwritten: %v", g.DrainSeconds)
	}
	step("go on from there", browser.Button(tab, "Go on from how it is now"))
	retype(".ant-modal #drain_seconds", "9")
	step("change it now", browser.Button(tab, "Change it"))
	s.eventually("it is changed", func() error {
		if g := must[contract.Group](t)(client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))); g.DrainSeconds != 9 {
			return fmt.Errorf("drain is %v", g.DrainSeconds)
		}
		return nil
	})

	// It is frozen and thawed with reasons, which the journal keeps.
	step("freeze", browser.Button(tab, "Freeze…"))
	step("the form of it", browser.Do(tab, chromedp.WaitVisible(".ant-modal #reason"), chromedp.SendKeys(".ant-modal #reason", "the harbour is closed\n")))
	step("it is frozen", browser.Until(tab, says("Frozen by admin")+" && "+says("the harbour is closed")))
	step("thaw", browser.Button(tab, "Thaw…"))
	step("it says who froze it", browser.Until(tab, says("It was frozen by admin: the harbour is closed.")))
	step("why", browser.Do(tab, chromedp.WaitVisible(".ant-modal input"), chromedp.SendKeys(".ant-modal input", "it is open again\n")))
	s.eventually("the journal has why", func() error {
		if all := s.journal("group.thawed"); len(all) != 1 || !strings.Contains(all[0].Because, "it is open again") {
			return fmt.Errorf("it has %+v", all)
		}
		return nil
	})

	// While another group's page is read, nothing of this one's stands under its address.
	if err := s.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	open("/groups/fares")
	step("the page gives way", browser.Until(tab, `document.querySelector('h1') === null && document.querySelector('.loading') !== null`))
	left, err := chromedp.Run(tab, chromedp.Evaluate[bool](`[...document.querySelectorAll('main button')].length > 0 || document.querySelector('main').innerText.includes('timetable')`))
	step("what is left", err)
	if left {
		t.Error("the former group's page stands under the address of another")
	}
	if err := s.cmd.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	step("there is none", browser.Until(tab, says("There is no group fares.")))
	noViolations()
}

// TestConsoleShowsWhatIsAlone: a released instance has a page, and can be retired there;
// a pool's page tells the verdict and reason of each target.
func TestConsoleShowsWhatIsAlone(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	whatever, replace := "*", true
	must[contract.Instance](t)(client.Read[contract.Instance](s.api.ReleaseInstance(ctx, "timetable-002", &contract.ReleaseInstanceParams{IfMatch: &whatever}, contract.InstanceRelease{Replace: &replace})))
	tab, step, _, noViolations := s.console()
	to := func(path string) {
		t.Helper()
		step("to "+path, browser.Until(tab, fmt.Sprintf(`document.querySelector('a[href=%q]') !== null`, path)))
		step("to "+path, browser.Do(tab, chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`document.querySelector('a[href=%q]').click()`, path))))
	}
	to("/instances")
	step("it is there", browser.Until(tab, says("1 belongs to no group.")+" && "+says("timetable-002")))
	step("look for it alone", browser.Do(tab, chromedp.SendKeys(`input[aria-label="Search instances"]`, "timetable-002")))
	step("it alone", browser.Until(tab, `document.querySelectorAll("tbody .ant-table-row").length === 1`))
	step("act", browser.Button(tab, "Act…"))
	step("the acts", browser.Until(tab, says("Retire: stop it for good")))
	step("retire", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.ant-dropdown-menu-item')].find(e => e.textContent.startsWith('Retire')).click()`)))
	step("what it means", browser.Until(tab, says("Nothing takes the place.")))
	step("do it", browser.Button(tab, "Retire it"))
	step("it is gone", browser.Until(tab, says("every one belongs to a group.")))
	statuses, interval := "204", 0.1 // which it never answers
	must[contract.Check](t)(client.Read[contract.Check](s.api.CreateCheck(ctx, nil, contract.NewCheck{Name: "nowhere", Kind: contract.NewCheckKindHttp, Statuses: &statuses, IntervalSeconds: &interval})))
	must[contract.Pool](t)(client.Read[contract.Pool](s.api.CreatePool(ctx, nil, contract.NewPool{Name: "back", Listeners: &[]contract.PoolListener{{Address: s.back}}, Check: "nowhere"})))
	s.pools("front", "back")
	to("/pools")
	to("/pools/back")
	step("the verdicts", browser.Until(tab, says("4 unhealthy by nowhere")+" && "+says("failed 3 of 3: 200")))
	noViolations()
}
