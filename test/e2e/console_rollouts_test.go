package e2e

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// TestConsoleHooksAndRollouts adds a hook by its form, answers the ticket of the instance
// that it holds, removes the hook, saves a course and changes it, rehearses a rollout by
// that course, starts it, and has it decided again when it is done.
func TestConsoleHooksAndRollouts(t *testing.T) {
	t.Parallel()
	s := start(t)
	s.stock()
	s.group(20)
	tab, step, retype, noViolations := s.console()
	run := func(what, js string) {
		t.Helper()
		step(what, browser.Do(tab, chromedp.Evaluate[chromedp.Void](js)))
	}
	open := func(path string) {
		t.Helper()
		run("open "+path, fmt.Sprintf(`history.pushState({}, '', %q); dispatchEvent(new PopStateEvent('popstate'))`, path))
	}
	// choose takes one of what the select of a field offers.
	choose := func(field, text string) {
		t.Helper()
		option := fmt.Sprintf(`[...document.querySelectorAll('.ant-select-item-option')].find(e => e.textContent.startsWith(%q))`, text)
		step("the field "+field, browser.Until(tab, fmt.Sprintf(`document.querySelector(%q) !== null`, field)))
		run("open "+field, fmt.Sprintf(`document.querySelector(%q).closest('.ant-select').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`, field))
		step(text+" is offered", browser.Until(tab, option+` !== undefined`))
		run("choose "+text, option+`.click()`)
	}
	group := func() contract.Group {
		return must[contract.Group](t)(client.Read[contract.Group](s.api.GetGroup(ctx, "timetable")))
	}

	open("/groups/timetable")
	step("add a hook", browser.Button(tab, "Add a hook…"))
	retype(".ant-modal #name", "look")
	choose(".ant-modal #who", "people")
	step("add it", browser.Button(tab, "Add it"))
	step("the hook", browser.Until(tab, `[...document.querySelectorAll('td')].some(e => e.textContent === 'people, or programs that look')`))
	if hooks := group().Hooks; len(hooks) != 1 || hooks[0].Name != "look" || hooks[0].DeadlineSeconds != 120 {
		t.Fatalf("the hooks are %+v", hooks)
	}
	five, whatever := 5, "*"
	must[contract.Group](t)(client.Read[contract.Group](s.api.ChangeGroup(ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &five})))
	open("/tickets")
	step("who waits", browser.Until(tab, says("1 ticket waits for an answer.")))
	run("pass", `document.querySelector('[aria-label^="pass "]').click()`)
	step("what comes of it", browser.Until(tab, says("The instance goes on once no other hook holds it: it settles and then serves.")))
	retype(".ant-modal #note", "seen on the quay")
	step("pass it", browser.Button(tab, "Pass it"))
	step("nobody waits", browser.Until(tab, says("No hook holds an instance.")))
	s.whole(5)
	open("/groups/timetable")
	step("the hook held", browser.Until(tab, `[...document.querySelectorAll('.journal li')].some(e => e.textContent.includes('seen on the quay'))`))
	step("remove the hook", browser.Button(tab, "Remove…"))
	step("what goes", browser.Until(tab, says("0 instances that it holds now go on unanswered")))
	step("remove it", browser.Button(tab, "Remove it"))
	step("it is gone", browser.Until(tab, says("No hook holds its instances.")))
	step("ask what is wanted", browser.Button(tab, "What is wanted…"))
	step("it is told", browser.Until(tab, `document.querySelector('[data-testid=wanted]')?.textContent === '5 are wanted, 5 are there, and 5 serve.' && document.querySelectorAll('.ant-modal tbody tr.ant-table-row').length > 1`))
	run("close it", `document.querySelector('.ant-modal-close').click()`)

	open("/courses")
	step("a course", browser.Button(tab, "Save a course…"))
	retype(".ant-modal #name", "brisk")
	run("without the middle wave", `document.querySelector('.ant-modal [aria-label="Take away wave 2"]').click()`)
	retype(".ant-modal #soak", "0.2")
	step("one gate more", browser.Button(tab, "Add a gate"))
	step("it is there", browser.Until(tab, `document.querySelectorAll('.ant-modal [data-testid=gate]').length === 2`))
	step("of another kind", browser.Until(tab, `document.querySelector('#gates_1_kind').closest('.ant-select').textContent.includes('answers that are slow')`))
	choose("#gates_1_kind", "instances that serve")
	retype("#gates_1_floor", "3")
	retype("#gates_0_min_requests", "7")
	choose("#gates_0_on_undecided", "if fewer, go on")
	step("save it", browser.Button(tab, "Save it"))
	course := func() contract.CourseSettings {
		return must[contract.Course](t)(client.Read[contract.Course](s.api.GetCourse(ctx, "brisk"))).Settings
	}
	step("it is listed", browser.Until(tab, says("errors, serving")))
	before := course()
	if g := *before.Gates; len(g) != 2 || *g[1].Floor != 3 || *g[0].MinRequests != 7 || *before.SoakSeconds != 0.2 {
		t.Errorf("the course is %+v", before)
	}
	run("change it", `document.querySelector('[aria-label="Change brisk"]').click()`)
	// Somebody else changes it meanwhile: it is told at once, and nothing of theirs is lost.
	step("the form", browser.Until(tab, `document.querySelector('.ant-modal #note') !== null`))
	theirs, below, tag := before, 1, `"1"`
	theirs.Below = &below
	must[contract.Course](t)(client.Read[contract.Course](s.api.SaveCourse(ctx, "brisk", &contract.SaveCourseParams{IfMatch: &tag}, theirs)))
	step("it is told", browser.Until(tab, says("Somebody changed it while you looked")+" && "+says("Below was 0 and is 1")))
	step("it cannot be saved", browser.Until(tab, `[...document.querySelectorAll('.ant-modal button')].find(b => b.textContent === 'Save it').disabled`))
	step("from how it is", browser.Button(tab, "Go on from how it is now"))
	step("it is so in the form", browser.Until(tab, `document.querySelector('.ant-modal #below').value === '1'`))
	before = course()
	retype(".ant-modal #note", "for small changes")
	step("save it", browser.Button(tab, "Save it"))
	step("it has a note", browser.Until(tab, says("for small changes")))
	after := course()
	after.Note = before.Note
	if was, is := asJSON(t, before), asJSON(t, after); was != is {
		t.Errorf("what was saved again lost something: %s, was %s", is, was)
	}

	open("/groups/timetable")
	step("a rollout", browser.Button(tab, "Start a rollout"))
	step("its versions", browser.Until(tab, `document.querySelector('.ant-modal #course') !== null && document.querySelector('.ant-modal .ant-select-content')?.textContent.includes('@')`))
	choose(".ant-modal #to", "timetable-web@2")
	choose(".ant-modal #course", "brisk")
	step("rehearse it", browser.Button(tab, "Rehearse it"))
	step("what came of it", browser.Until(tab, `document.querySelector('[data-testid=rehearsal]')?.textContent.includes('In 20 runs of timetable-web@2: done in 20')`))
	if g := group(); g.Summary.Serving != 5 || g.Rollout != nil {
		t.Errorf("a rehearsal did something: %s", g.Summary.Sentence)
	}
	step("start it", browser.Button(tab, "Start the rollout"))
	step("it is done", browser.Until(tab, `document.querySelector('[data-testid=rollout]')?.dataset.state === 'done'`))
	step("it is laid beside its rehearsal", browser.Until(tab, `document.querySelector('[data-testid=beside]')?.textContent.includes('done in 20 of 20 runs')`))
	step("decide again", browser.Button(tab, "Decide again"))
	step("the same", browser.Until(tab, `/^In (\d+) of \1 moments/.test(document.querySelector('[data-testid=replay]')?.textContent)`))
	s.whole(5)
	noViolations()
}

func asJSON(t *testing.T, v any) string {
	t.Helper()
	out, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}
