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

// TestConsole signs in, looks at the group, starts a rollout, holds it, lets
// it proceed and sees its waves pass, with nothing amiss in the browser's
// console and nothing that the page's security policy had to stop.
func TestConsole(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("../../web/dist/index.html"); err != nil {
		t.Fatal("the console is not built; run: make build")
	}
	s := start(t)
	s.stock()
	s.group(20)
	tab, stop, err := browser.Start(t.Context(), 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	step := func(what string, err error) {
		t.Helper()
		if err != nil {
			shown, _ := chromedp.Run(tab, chromedp.Evaluate[string](`document.body.innerText`))
			t.Fatalf("%s: %v; the page shows:\n%s", what, err, shown)
		}
	}
	// Set up on the blank page, so that nothing is missed.
	messages := chromedp.Console(tab)
	heard := make(chan []string)
	go func() {
		var all []string
		for m, err := range messages {
			if err != nil {
				break
			}
			all = append(all, fmt.Sprint(m))
		}
		heard <- all
	}()
	url := "http://" + s.listen

	step("open", browser.Do(tab, chromedp.Navigate(url), chromedp.WaitVisible("input[type=password]")))
	step("a wrong token", browser.Do(tab, chromedp.SendKeys("input[type=password]", "nope\n")))
	step("is said to be wrong", browser.Until(tab, `document.body.innerText.includes('does not know this token')`))
	step("sign in", browser.SignIn(tab, url, s.token))
	step("note what the policy stops", browser.Do(tab, chromedp.Evaluate[chromedp.Void](
		`window.stopped = []; document.addEventListener('securitypolicyviolation', e => window.stopped.push(e.violatedDirective + ' ' + e.blockedURI + ' ' + e.sourceFile + ' ' + e.sample)); undefined`)))
	step("the groups at a glance", browser.Until(tab, `document.body.innerText.includes('4 of 4 serving, between 1 and 9') && document.querySelectorAll('.group-row .bar-line').length === 4`))
	step("to the group", browser.Do(tab, chromedp.Click(`a[href="/groups/timetable"]`)))
	step("its parts", browser.Until(tab, `['Rollout', 'Traffic', 'Health', 'Instances', 'Journal', 'Settings'].every(h => [...document.querySelectorAll('h2')].some(e => e.textContent === h))`))
	step("its pool", browser.Until(tab, `document.body.innerText.includes('4 of 4 targets get requests')`))

	step("start", browser.Button(tab, "Start a rollout"))
	// What is offered is the version after the running one, with what is different in it.
	step("the form", browser.Until(tab, `document.querySelector('.ant-modal .ant-select-content')?.textContent.includes('timetable-web@2')`))
	step("the difference", browser.Until(tab, `[...document.querySelectorAll('.ant-modal td')].some(e => e.textContent === 'timetable@2')`))
	step("close", browser.Button(tab, "Cancel"))

	// A bad version by the form; it must be held by itself, then reverted.
	step("start again", browser.Button(tab, "Start a rollout"))
	step("the form again", browser.Until(tab, `document.querySelector('.ant-modal .ant-select-content')?.textContent.includes('timetable-web@2')`))
	step("the versions", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('#to').focus(); undefined`), chromedp.SendKeys("#to", kb.ArrowDown)))
	step("are offered", browser.Until(tab, `[...document.querySelectorAll('.ant-select-item-option')].some(o => o.textContent.startsWith('timetable-web@3'))`))
	step("the last", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.ant-select-item-option')].find(o => o.textContent.startsWith('timetable-web@3')).click()`)))
	step("is chosen", browser.Until(tab, `document.querySelector('.ant-modal .ant-select-content')?.textContent.includes('timetable-web@3')`))
	step("confirm", browser.Button(tab, "Start the rollout"))
	state := func(want string) string {
		return fmt.Sprintf(`document.querySelector('[data-testid=rollout]')?.dataset.state === %q`, want)
	}
	step("it moves", browser.Until(tab, state("moving")))
	step("hold", browser.Button(tab, "Hold"))
	step("it is held", browser.Until(tab, state("held")))
	step("the sentence says so", browser.Until(tab, `document.querySelector('[data-testid=sentence]').textContent.includes('a person asked to hold')`))
	step("revert", browser.Button(tab, "Revert…"))
	step("sure", browser.Until(tab, `document.body.innerText.includes('stopped, and replaced by timetable-web@1. Traffic goes on.') && document.activeElement?.closest('.ant-modal') !== null`))
	// What was typed is there again after Escape.
	step("why", browser.Do(tab, chromedp.SendKeys(".ant-modal input", "the sailings are wrong")))
	step("leave it", browser.Do(tab, chromedp.KeyEvent(kb.Escape)))
	step("it is left", browser.Until(tab, `document.querySelector('.ant-modal input') === null`))
	step("revert after all", browser.Button(tab, "Revert…"))
	step("the reason is there", browser.Until(tab, `document.querySelector('.ant-modal input')?.value === 'the sailings are wrong'`))
	step("revert it", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.ant-modal .ant-btn-dangerous').click()`)))
	step("it is reverted", browser.Until(tab, state("reverted")))

	step("it was told to who listens", browser.Until(tab, `/Rollout .* is (reverted|reverting)|And \d+ more/.test(document.querySelector('[data-testid=announced]').textContent)`))
	step("the journal has why", browser.Until(tab, `document.querySelector('.journal').textContent.includes('the sailings are wrong')`))

	// A good one: its waves pass while the page is open.
	r := s.rollOut("timetable-web@2", "1", "50%", "100%")
	step("the next one moves", browser.Until(tab, `document.querySelector('[data-testid=rollout]').textContent.includes('timetable-web@1 → timetable-web@2')`))
	step("hold it", browser.Button(tab, "Hold"))
	step("held", browser.Until(tab, state("held")))
	step("proceed", browser.Button(tab, "Proceed…"))
	step("it says how it stands", browser.Until(tab, `document.querySelector('.ant-modal')?.textContent.includes('It is held: a person asked to hold')`))
	step("go on", browser.Do(tab, chromedp.KeyEvent(kb.Enter)))
	for wave := 1; wave <= 3; wave++ {
		step(fmt.Sprintf("wave %d passes", wave), browser.Until(tab, fmt.Sprintf(`document.querySelector('[data-wave="%d"]')?.textContent === 'passed'`, wave)))
	}
	step("it is done", browser.Until(tab, state("done")))
	step("all are on it", browser.Until(tab, `document.querySelector('[data-testid=sentence]').textContent === '4 of 4 serving, between 1 and 9, all on timetable-web@2.'`))
	step("the journal has it", browser.Until(tab, `document.querySelector('.journal').textContent.includes('is done')`))
	if got := s.rollout(r.Number); got.State != "done" {
		t.Errorf("the service says that the rollout is %s", got.State)
	}
	stopped, err := chromedp.Run(tab, chromedp.Evaluate[[]string](`window.stopped`))
	step("violations", err)
	if len(stopped) != 0 {
		t.Errorf("the security policy stopped %q", stopped)
	}
	// Who listens is not told each second what time passes.
	seconds := 60.0
	d := must[contract.Drill](t)(client.Read[contract.Drill](s.api.StartDrill(ctx, nil, contract.NewDrill{Kind: "burn", Instance: &s.instances()[0].Id, ForSeconds: &seconds})))
	step("a drill", browser.Until(tab, `document.querySelector('.drills')?.textContent.includes('a processor is kept busy')`))
	step("listen", browser.Do(tab, chromedp.Evaluate[chromedp.Void](`(() => {
		window.spoken = []; window.ticks = 0
		new MutationObserver(all => { for (const m of all) {
			const e = m.target instanceof Element ? m.target : m.target.parentElement
			const live = e?.closest('[aria-live], [role=status], [role=alert]')
			if (live && live.getAttribute('aria-live') !== 'off' && live.dataset.testid !== 'announced') window.spoken.push(live.textContent)
			else if (e?.closest('.drills')) window.ticks++
		} }).observe(document.body, { subtree: true, childList: true, characterData: true })
	})()`)))
	step("time passes", browser.Until(tab, `window.ticks >= 3`))
	spoken, err := chromedp.Run(tab, chromedp.Evaluate[[]string](`window.spoken`))
	step("what was spoken", err)
	if len(spoken) != 0 {
		t.Errorf("while nothing but time passed, this was spoken: %q", spoken)
	}
	_, _, err = client.Read[contract.Drill](s.api.StopDrill(ctx, d.Number))
	step("end the drill", err)
	step("save the record", browser.Button(tab, "Save as a record"))
	step("it is saved", browser.Until(tab, `[...document.querySelectorAll('button')].some(b => b.textContent.trim() === 'Save as a record' && !b.classList.contains('ant-btn-loading'))`))
	step("sign out", browser.Button(tab, "Sign out"))
	step("signed out", browser.Do(tab, chromedp.WaitVisible("input[type=password]")))
	stop()
	for _, message := range <-heard {
		// The wrong token above is answered 401, which the browser notes by itself.
		if !strings.Contains(message, "401") {
			t.Errorf("in the browser's console: %s", message)
		}
	}
}
