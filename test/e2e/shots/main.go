// Command shots plays the demo and retakes the pictures of docs/screenshots:
// the console's pages in a browser, the command line's views in a terminal.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"unitas/api/contract"
	"unitas/client"
	"unitas/test/e2e/browser"
)

const width, height = 1280, 800

// transcriptFile holds what the demo said, for its picture.
const transcriptFile = ".state/demo-transcript.txt"

func main() {
	out := flag.String("out", "docs/screenshots", "the directory for the pictures")
	only := flag.String("only", "", "console or terminal, for one kind alone")
	flag.Parse()
	if err := run(*out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

type shots struct {
	good, bad                  string // template versions
	out, url, tokenFile, token string
	api                        *client.Client
	ctx                        context.Context
}

func run(out, only string) (err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	defer cancel()
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	s := &shots{out: out, ctx: ctx}
	if err := s.during("rollout", transcriptFile, only, s.console, s.terminal); err != nil {
		return err
	}
	return s.during("sizing", os.DevNull, only, s.sizing, s.metrics)
}

// during takes pictures, of one kind alone when it is named, while a tale of the demo goes on
// running.
func (s *shots) during(tale, transcript, only string, console, terminal func() error) error {
	play, err := s.playDemo(tale, transcript)
	if err != nil {
		return err
	}
	defer func() {
		_ = play.Process.Signal(os.Interrupt)
		_ = play.Wait()
	}()
	if s.api, err = client.Connect(s.url, s.token); err != nil {
		return err
	}
	if only != "terminal" {
		if err := console(); err != nil {
			return err
		}
	}
	if only != "console" {
		return terminal()
	}
	return nil
}

// playDemo plays a tale of the demo to the point where it goes on running.
func (s *shots) playDemo(tale, file string) (*exec.Cmd, error) {
	play := exec.Command("bin/play", "-tale", tale)
	play.Stderr = os.Stderr
	play.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGINT}
	out, err := play.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := play.Start(); err != nil {
		return nil, err
	}
	transcript, err := os.Create(file)
	if err != nil {
		return nil, err
	}
	defer transcript.Close()
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		line := lines.Text()
		fmt.Fprintln(transcript, line)
		if _, settings, ok := strings.Cut(line, "export UNITAS_SERVER="); ok {
			var file string
			s.url, file, _ = strings.Cut(settings, " UNITAS_TOKEN_FILE=")
			s.tokenFile = file
		}
		if strings.HasPrefix(line, "Ctrl-C") {
			go func() {
				for lines.Scan() { // so that it never waits for its reader
				}
			}()
			raw, err := os.ReadFile(s.tokenFile)
			s.token = strings.TrimSpace(string(raw))
			return play, err
		}
	}
	return nil, errors.New("the demo ended early")
}

func (s *shots) console() error {
	tab, stop, err := browser.Start(s.ctx, width, height)
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(width, height), chromedp.Navigate(s.url), chromedp.WaitVisible("input[type=password]")); err != nil {
		return err
	}
	steps := []func() error{
		func() error { return browser.SignIn(tab, s.url, s.token) },
		func() error {
			return browser.Until(tab, `document.querySelectorAll('.group-row .bar-line').length >= 4`)
		},
		func() error { return s.take(tab, "console-groups") },
		func() error { return chromedp.Do(tab, chromedp.Navigate(s.url+"/pools/front")) },
		func() error {
			return browser.Until(tab, `document.querySelectorAll('tbody tr.ant-table-row').length >= 8`)
		},
		func() error { return s.take(tab, "console-pool") },
		s.routes,
		func() error { return chromedp.Do(tab, chromedp.Navigate(s.url+"/listeners/127.0.0.1%3A8000")) },
		func() error { return browser.Until(tab, `document.body.innerText.includes('Where would it go?')`) },
		func() error { return browser.Button(tab, "Where would it go?") },
		func() error {
			return browser.Until(tab, `document.querySelector('.tried')?.textContent.includes('next in turn') && document.querySelectorAll('td').length > 30`)
		},
		func() error { return s.take(tab, "console-listener") },
		func() error { return chromedp.Do(tab, chromedp.Navigate(s.url+"/costs")) },
		func() error {
			return browser.Until(tab, `document.querySelector('.chart canvas') !== null`)
		},
		func() error { return s.take(tab, "console-costs") },
		func() error {
			return chromedp.Do(tab, chromedp.Navigate(s.url+"/new-group"))
		},
		func() error { return browser.Until(tab, `document.querySelector('#name') !== null`) },
		func() error { return chromedp.Do(tab, chromedp.SendKeys("#name", "berths")) },
		func() error { return browser.Button(tab, "Review") },
		func() error { return browser.Until(tab, `document.querySelector('[data-testid=review]') !== null`) },
		func() error {
			return chromedp.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('[data-testid=review]').scrollIntoView({block: 'end'})`))
		},
		func() error { return s.take(tab, "console-new-group") },
		func() error { return chromedp.Do(tab, chromedp.Navigate(s.url+"/images/timetable/2")) },
		func() error {
			return browser.Until(tab, `document.querySelectorAll('.lineage rect').length >= 3 && document.querySelector('.log')?.textContent.includes('ready')`)
		},
		func() error { return s.take(tab, "console-image") },
		func() error { return chromedp.Do(tab, chromedp.Navigate(s.url+"/templates/timetable-web")) },
		func() error {
			return browser.Until(tab, `document.querySelector('.line li.runs') && document.querySelectorAll('.pick').length === 2`)
		},
		func() error { return s.take(tab, "console-template") },
		func() error { return chromedp.Do(tab, chromedp.Navigate(s.url+"/groups/timetable")) },
		func() error { return browser.Until(tab, `document.querySelectorAll('.journal li').length > 5`) },
		func() error { return s.take(tab, "console-group") },
		s.holdOne,
		func() error {
			return browser.Until(tab, `document.querySelectorAll('[aria-label^="pass "]').length > 0`)
		},
		func() error {
			return chromedp.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('h2')].find(h => h.textContent === 'Hooks').scrollIntoView()`))
		},
		func() error { return s.take(tab, "console-hooks") },
		s.letGo,
		func() error { return chromedp.Do(tab, chromedp.Evaluate[chromedp.Void](`window.scrollTo(0, 0)`)) },
		func() error { return browser.Button(tab, "Start a rollout") },
		func() error {
			return browser.Until(tab, `document.querySelector('.ant-modal .ant-select-content')?.textContent.includes('@')`)
		},
		func() error { return browser.Button(tab, "Cancel") },
		func() error { return s.release("the winter sailings", false) },
		func() error {
			return browser.Until(tab, `document.querySelector('[data-wave="2"]')?.textContent === 'replacing'`)
		},
		func() error {
			return browser.Until(tab, `document.querySelectorAll('.slip[data-state=settling]').length > 0`)
		},
		func() error { return s.take(tab, "console-rollout") },
		func() error {
			return browser.Until(tab, `document.querySelector('[data-testid=rollout]')?.dataset.state === 'done'`)
		},
		func() error { return s.release("reads the spring sailings from a file", true) },
		func() error {
			return browser.Until(tab, `document.querySelector('[data-testid=rollout]')?.dataset.state === 'held'`)
		},
		func() error { return browser.Button(tab, "Dark") },
		func() error { return s.take(tab, "console-held-dark") },
		func() error { return s.revert() },
		func() error {
			return browser.Until(tab, `document.querySelector('[data-testid=rollout]')?.dataset.state === 'reverted'`)
		},
		func() error { return browser.Button(tab, "Light") },
		s.failAgain,
		func() error { return browser.Until(tab, `document.querySelector('.sides')?.children.length >= 2`) },
		func() error {
			return chromedp.Do(tab, chromedp.Evaluate[chromedp.Void](`document.querySelector('.sides').scrollIntoView({block: 'center'})`))
		},
		func() error { return s.take(tab, "console-failing") },
		s.mend,
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (s *shots) take(tab context.Context, name string) error {
	// A moment for what moves to come to rest.
	_, err := chromedp.Run(tab, chromedp.Evaluate[bool](`new Promise(r => setTimeout(() => r(true), 400))`, chromedp.EvalAwaitPromise))
	if err != nil {
		return err
	}
	return s.keep(name, func(string) ([]byte, error) { return chromedp.Run(tab, chromedp.CaptureScreenshot()) })
}

// routes gives the listener of the demo some, and has it write down all.
func (s *shots) routes() error {
	if _, _, err := client.Read[contract.Pool](s.api.CreatePool(s.ctx, nil, contract.NewPool{Name: "fares", Check: "sailings-up"})); err != nil {
		return err
	}
	whatever, path, berths, percent := "*", "/fares", "/berths", 5.0
	hosts, crew := []string{"fares.saltmere.example"}, []contract.HeaderMatch{{Name: "X-Crew"}}
	routes := []contract.Route{{Hosts: &hosts, Path: &path, Pool: "fares"}, {Path: &berths, Headers: &crew, Pool: "front", Split: &contract.RouteSplit{Pool: "fares", Percent: &percent}}}
	_, _, err := client.Read[contract.Listener](s.api.ChangeListener(s.ctx, "127.0.0.1:8000", &contract.ChangeListenerParams{IfMatch: &whatever},
		contract.ListenerChange{Routes: &routes, AccessLog: &contract.AccessLog{Keep: "all"}}))
	return err
}

// release makes the next template version, good or bad, and begins its rollout.
func (s *shots) release(note string, bad bool) error {
	env := contract.Environment{"WARM_UP": "2s"}
	if bad {
		env["SAILINGS_FILE"] = "/srv/sailings-spring.csv"
	}
	t, _, err := client.Read[contract.Template](s.api.ReviseTemplate(s.ctx, "timetable-web", nil, contract.TemplateRevision{Environment: &env, Note: note}))
	if err != nil {
		return err
	}
	to, above, soak := fmt.Sprintf("%s@%d", t.Name, t.Version), 2, 4.0
	if bad {
		s.bad = to
	} else {
		s.good = to
	}
	_, _, err = client.Read[contract.Rollout](s.api.StartRollout(s.ctx, "timetable", nil, contract.NewRollout{To: to, Above: &above, SoakSeconds: &soak}))
	return err
}

func (s *shots) revert() error {
	one, whatever := 1, "*"
	group := "timetable"
	list, _, err := client.Read[contract.RolloutList](s.api.ListRollouts(s.ctx, &contract.ListRolloutsParams{Group: &group, Limit: &one}))
	if err != nil {
		return err
	}
	_, _, err = client.Read[contract.Rollout](s.api.TellRollout(s.ctx, list.Items[0].Number, &contract.TellRolloutParams{IfMatch: &whatever}, contract.RolloutCommand{Command: contract.RolloutCommandCommandRevert}))
	return err
}

// failAgain has new launches be of the bad version and one instance crash, so
// that its place fails again and again.
func (s *shots) failAgain() error {
	if err := s.launches(s.bad); err != nil {
		return err
	}
	group := "timetable"
	list, _, err := client.Read[contract.InstanceList](s.api.ListInstances(s.ctx, &contract.ListInstancesParams{Group: &group}))
	if err != nil {
		return err
	}
	_, _, err = client.Read[contract.Drill](s.api.StartDrill(s.ctx, nil, contract.NewDrill{Kind: contract.NewDrillKindCrash, Instance: &list.Items[0].Id}))
	return err
}

// holdOne has a person look at each new instance, and one more launched.
func (s *shots) holdOne() error {
	whatever, deadline := "*", 600.0
	if _, _, err := client.Read[contract.Group](s.api.AddHook(s.ctx, "timetable", &contract.AddHookParams{IfMatch: &whatever},
		contract.NewHook{Name: "look", At: contract.HookPointLaunch, DeadlineSeconds: &deadline})); err != nil {
		return err
	}
	return s.resize(7)
}

// sizing takes the pictures of a group that followed its load, with a calendar that lasts.
func (s *shots) sizing() error {
	whatever, now, span, least, most := "*", "now", 1200.0, 3, 6
	if _, _, err := client.Read[contract.RuleReview](s.api.AddRule(s.ctx, "timetable", &contract.AddRuleParams{IfMatch: &whatever},
		contract.NewRule{Name: "regatta", Kind: contract.Calendar, Settings: contract.RuleSettings{When: &now, DurationSeconds: &span, Min: &least, Max: &most}})); err != nil {
		return err
	}
	tab, stop, err := browser.Start(s.ctx, width, height)
	if err != nil {
		return err
	}
	defer stop()
	for _, step := range []func() error{
		func() error {
			return chromedp.Do(tab, chromedp.EmulateViewport(width, height), chromedp.Navigate(s.url), chromedp.WaitVisible("input[type=password]"))
		},
		func() error { return browser.SignIn(tab, s.url, s.token) },
		func() error { return chromedp.Do(tab, chromedp.Navigate(s.url+"/groups/timetable")) },
		func() error {
			return browser.Until(tab, `document.querySelector('.chart canvas') !== null && document.querySelector('[data-testid=sizing]')?.textContent.startsWith('The size is 3') && [...document.querySelectorAll('tr')].some(r => r.textContent.includes('cpu at'))`)
		},
		func() error {
			return chromedp.Do(tab, chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('.few label')].find(b => b.textContent === '15 min').click(); [...document.querySelectorAll('h2')].find(h => h.textContent === 'Size').scrollIntoView()`))
		},
		func() error { return s.take(tab, "console-sizing") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (s *shots) letGo() error {
	whatever := "*"
	_, _, err := client.Read[contract.Group](s.api.RemoveHook(s.ctx, "timetable", "look", &contract.RemoveHookParams{IfMatch: &whatever}))
	if err == nil {
		err = s.resize(6)
	}
	if err == nil {
		err = s.until("the group is whole again", s.whole)
	}
	return err
}

func (s *shots) resize(size int) error {
	whatever := "*"
	_, _, err := client.Read[contract.Group](s.api.ChangeGroup(s.ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Size: &size}))
	return err
}

func (s *shots) mend() error { return s.launches(s.good) }

func (s *shots) launches(template string) error {
	whatever, reason := "*", "to see a slot that fails"
	_, _, err := client.Read[contract.Group](s.api.ChangeGroup(s.ctx, "timetable", &contract.ChangeGroupParams{IfMatch: &whatever}, contract.GroupChange{Template: &template, Reason: &reason}))
	return err
}
