// Command play plays the sample scenario on a service of its own: a rollout of
// Saltmere Line's timetable is rehearsed and goes out under traffic, one that fails some of
// its requests goes back by its gate, and one that never becomes healthy holds itself. It
// drives the service through its HTTP interface and its command line alone. That is the tale of a
// rollout; there are others, of sizes, healing and images.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"
)

func main() {
	var o options
	flag.StringVar(&o.unitas, "unitas", "bin/unitas", "the service's binary")
	flag.StringVar(&o.workloads, "workloads", "bin", "the directory with timetable-1 and timetable-2")
	flag.StringVar(&o.data, "data", "", "the directory for all that the demo makes; emptied first")
	flag.BoolVar(&o.once, "once", false, "end after the scenario, with status 0 only when all went as it must")
	flag.StringVar(&o.tale, "tale", tales[0].name, "which `TALE` to play: "+taleNames()+", or all")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	all, err := chosen(o.tale)
	for k := 0; k < len(all) && err == nil; k++ {
		one := o
		one.once = o.once || len(all) > 1
		err = play(ctx, one, all[k])
	}
	switch {
	case err == nil:
		fmt.Println("\nAll went as it must.")
	case errors.Is(err, context.Canceled) && !o.once:
		fmt.Println("\nEnded before the scenario was over.")
	default:
		fmt.Fprintln(os.Stderr, "\nThe demo did not go as it must:", err)
		stop()
		os.Exit(1)
	}
}

type options struct {
	unitas, workloads, data string
	once                    bool
	tale                    string
}

// play runs the scenario and tidies up, whatever comes.
func play(ctx context.Context, o options, t tale) (err error) {
	if o.data == "" {
		o.data = defaultData()
	}
	s, err := startService(ctx, o, t.serve...)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.tidyUp()) }()
	d := &demo{service: s, begun: time.Now(), options: o}
	defer d.stopTraffic()
	if err := t.play(d, ctx); err != nil {
		return err
	}
	verdict := d.verdict
	if t.name != tales[0].name {
		verdict = func() error { return nil } // it was told on the way
	}
	if o.once {
		return verdict()
	}
	fmt.Printf(`
It goes on running. Look around:
  console   %s     sign in with the token: %s
  command   export UNITAS_SERVER=%s UNITAS_TOKEN_FILE=%s
            bin/unitas group show timetable --watch
  traffic   curl http://%s/
Ctrl-C ends it and leaves no process.
`, s.url, s.token, s.url, filepath.Join(o.data, "token"), s.front)
	<-ctx.Done()
	fmt.Println()
	return verdict()
}

// defaultData lies where unprivileged machines may enter when this is root.
func defaultData() string {
	if os.Geteuid() == 0 {
		return "/var/tmp/unitas-demo"
	}
	return filepath.Join(".state", "demo")
}
