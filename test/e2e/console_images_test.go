package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

// TestConsoleImagesAndTemplates looks at an image, copies it, marks it, makes
// the next version of a template by the form with all errors shown at once, and
// compares two, with nothing that the page's security policy had to stop.
func TestConsoleImagesAndTemplates(t *testing.T) {
	t.Parallel()
	s := start(t)
	for name, content := range samples {
		if err := os.WriteFile(filepath.Join(s.dir, name), []byte(content), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	s.play([]string{"$ unitas image bake timetable --recipe DIR/good.yaml", "$ unitas image bake timetable --recipe DIR/bad.yaml", "exit 3",
		"$ unitas template create web --image timetable@1 --user-data DIR/first.sh --note spring"})
	tab, step, retype, noViolations := s.console()
	step("to the images", browser.Do(tab, chromedp.Click(`a[href="/images"]`)))
	step("the catalogue", browser.Until(tab, says("3 versions of 2 images, 1 broken.")))
	step("search", browser.Do(tab, chromedp.SendKeys(`input[aria-label="Search names and sources"]`, "plain")))
	step("found", browser.Until(tab, says("1 version of 1 image, all ready.")))
	retype(`input[aria-label="Search names and sources"]`, "good")
	step("by the source", browser.Until(tab, `document.querySelector('a[href="/images/timetable/1"]') !== null`))
	step("to the image", browser.Do(tab, chromedp.Click(`a[href="/images/timetable/1"]`)))
	step("its sentence", browser.Until(tab, says("Ready in harbour. Nothing runs on it.")))
	step("its lineage", browser.Until(tab, `document.querySelectorAll('.lineage [role=treeitem]').length === 3`))
	step("its log", browser.Until(tab, says("command 1 of 1: echo 06:40 > sailings")))
	step("copy", browser.Button(tab, "Copy here"))
	step("it is copied", browser.Until(tab, says("Ready in harbour and headland.")))
	step("mark", browser.Button(tab, "Mark…"))
	step("the mark", browser.Do(tab, chromedp.WaitVisible("#mark"), chromedp.SendKeys("#mark", "stable")))
	step("put it", browser.Button(tab, "Put it here"))
	step("it is marked", browser.Until(tab, `document.querySelector('h1 .mark')?.textContent === 'stable'`))

	step("withdraw", browser.Button(tab, "Withdraw…"))
	step("the form of it", browser.Do(tab, chromedp.WaitVisible("#reason"), chromedp.SendKeys("#reason", "a hole")))
	step("withdraw it", browser.Button(tab, "Withdraw it"))
	step("it is withdrawn", browser.Until(tab, says("Withdrawn: a hole.")))
	step("to the images again", browser.Do(tab, chromedp.Click(`a[href="/images"]`)))
	step("bake one", browser.Button(tab, "Bake one…"))
	step("the recipe", browser.Do(tab, chromedp.WaitVisible("#recipe"), chromedp.SendKeys("#name", "berths")))
	retype("#recipe", "parent: plain@1\ncommands: ['echo which ship lies where > berths']\n")
	step("bake it", browser.Button(tab, "Bake it"))
	step("it is baked", browser.Until(tab, says("Ready in harbour.")+" && "+says("which ship lies where")))
	if i := s.image("berths", "1"); i.State != contract.ImageStateReady || *i.Parent != "plain@1" {
		t.Errorf("the console baked %+v", i)
	}

	step("to the templates", browser.Do(tab, chromedp.Click(`a[href="/templates"]`)))
	step("the list", browser.Until(tab, says("1 template in 1 version.")))
	step("to the template", browser.Do(tab, chromedp.Click(`a[href="/templates/web"]`)))
	step("the next version", browser.Button(tab, "Make the next version"))
	step("the form", browser.Do(tab, chromedp.WaitVisible("#note"), chromedp.SendKeys("#note", "summer"), chromedp.Click("#labels-add"), chromedp.WaitVisible("#labels-0-name"),
		chromedp.SendKeys("#labels-0-name", "a b"), chromedp.SendKeys("#labels-0-value", "c"),
		chromedp.Click("#environment-add"), chromedp.WaitVisible("#environment-0-name"),
		chromedp.SendKeys("#environment-0-name", "UNITAS_X"), chromedp.SendKeys("#environment-0-value", "1")))
	retype("#image", "berths@1")
	step("review", browser.Button(tab, "Review"))
	step("all errors at once", browser.Until(tab, says(`"a b" is not the name of a label`)+" && "+says(`"UNITAS_X" is not the name of a variable`)))
	retype("#labels-0-name", "season")
	retype("#labels-0-value", "summer")
	retype("#environment-0-name", "SEASON")
	retype("#environment-0-value", "summer")
	retype("#user_data", "#!/bin/sh\necho other")
	step("review again", browser.Button(tab, "Review"))
	step("the review", browser.Until(tab, says("web@2 would launch berths@1, with 4 changes from web@1.")))
	if l := must[contract.TemplateList](t)(client.Read[contract.TemplateList](s.api.ListTemplates(ctx, nil))); len(l.Items) != 1 {
		t.Error("the review made a version")
	}
	step("make it", browser.Button(tab, "Make web@2"))
	step("the line of versions", browser.Until(tab, `document.querySelectorAll('.line li').length === 2`))
	step("compared side by side", browser.Until(tab, `document.querySelector('.diff .gone')?.textContent.includes('first boot of') && document.querySelector('.diff .new')?.textContent.includes('echo other')`))
	noViolations()
}
