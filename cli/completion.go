package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unitas/api/contract"
	"unitas/client"
)

// completionTime bounds how long a person waits for the names after a press of the key.
const completionTime = 2 * time.Second

// values are what a flag takes that takes one of a few, by its name; where commands differ,
// by the command's path as well.
var values = map[string][]string{
	"shed": {"outdated", "oldest", "newest"}, "spread": {"even", "in-order", "cheapest"}, "order": {"mixed", "zone-by-zone", "oldest-first"},
	"pace": {"in-waves", "at-once"}, "at": {"launch", "retire"}, "otherwise": {"pass", "fail"}, "min-tls": {"1.2", "1.3"},
	"algorithm": {"round-robin", "least-busy"}, "when-none-healthy": {"refuse", "try-all"}, "origin": {"provided", "imported", "baked", "from-instance"},
	"state": {"baking", "ready", "broken", "withdrawn"}, "as": {"markdown"}, "step": {"hour", "day"}, "by": {"group", "zone", "label:"},
	"aggregate": {"average", "maximum", "total", "p50", "p95"}, "metric": {"cpu", "memory", "network-in", "network-out", "requests", "latency", "scrape:", "push:"},
	"trust": {"host", "anyone"}, "affinity": {"none", "cookie", "header:", "address"}, "eject": {"never", "usual", "failures="},
	"region-order": {"alike", "measured"}, "access-log": {"all", "failures", "none"}, "output": {"table", "json", "yaml"}, "outcome": {"good", "bad"},
	"check create kind": {"http", "https", "tcp", "grpc"}, "check set kind": {"http", "https", "tcp", "grpc"},
	"listener create protocol": {"http", "https", "tcp"}, "listener set protocol": {"http", "https", "tcp"},
	"pool create protocol": {"http", "http2", "https"}, "pool set protocol": {"http", "http2", "https"},
	"drill start KIND": {"hang", "crash", "burn", "slow", "errors", "zone", "region"},
	"rule add KIND":    {"trip", "steady", "calendar"}, "journal kind": journalKinds,
}

// complete has every command complete the names and values that it takes.
func (a *app) complete(cmd *cobra.Command) {
	path := strings.TrimPrefix(strings.TrimPrefix(cmd.CommandPath(), "unitas"), " ")
	each := func(f *pflag.Flag) { a.completeFlag(cmd, path, f) }
	cmd.Flags().VisitAll(each)
	cmd.PersistentFlags().VisitAll(each)
	if takes := argumentsOf(cmd); len(takes) > 0 && cmd.ValidArgsFunction == nil {
		cmd.ValidArgsFunction = func(c *cobra.Command, had []string, _ string) ([]string, cobra.ShellCompDirective) {
			n := len(had)
			if strings.HasSuffix(c.Use, "…") && !strings.Contains(c.Use, " --") { // the last may be several
				n = min(n, len(takes)-1)
			}
			if n >= len(takes) {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			left := slices.DeleteFunc(a.offered(c.Context(), path, takes[n]), func(name string) bool { return slices.Contains(had, name) })
			return left, cobra.ShellCompDirectiveNoFileComp
		}
	}
	for _, below := range cmd.Commands() {
		a.complete(below)
	}
}

func (a *app) completeFlag(cmd *cobra.Command, path string, f *pflag.Flag) {
	if _, has := cmd.GetFlagCompletionFunc(f.Name); has {
		return
	}
	few := values[path+" "+f.Name]
	if few == nil {
		few = values[f.Name]
	}
	if few != nil {
		directive := cobra.ShellCompDirectiveNoFileComp
		if slices.ContainsFunc(few, func(v string) bool { return strings.HasSuffix(v, ":") || strings.HasSuffix(v, "=") }) {
			directive |= cobra.ShellCompDirectiveNoSpace
		}
		_ = cmd.RegisterFlagCompletionFunc(f.Name, cobra.FixedCompletions(few, directive))
		return
	}
	what, named := flagNames[path+" "+f.Name]
	if !named {
		what, named = flagNames[f.Name]
	}
	if !named {
		return
	}
	_ = cmd.RegisterFlagCompletionFunc(f.Name, func(c *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		all := a.offered(c.Context(), path, what)
		if f.Value.Type() == "stringSlice" { // several, with commas between
			if k := strings.LastIndex(typed, ","); k >= 0 {
				for i := range all {
					all[i] = typed[:k+1] + all[i]
				}
			}
		}
		return all, cobra.ShellCompDirectiveNoFileComp
	})
}

// flagNames are flags that take the name of something.
var flagNames = map[string]string{"group": "GROUP", "instance": "INSTANCE", "pool": "POOL", "template": "TEMPLATE", "image": "IMAGE", "zone": "ZONE", "zones": "ZONE",
	"region": "REGION", "check": "CHECK", "heal": "HEAL", "course": "COURSE", "exclude": "INSTANCE", "use": "SERVICE",
	"rollout start to": "TEMPLATE", "rollout rehearse to": "TEMPLATE", "image copy to": "REGION"}

var argument = regexp.MustCompile(`[A-Z][A-Z|@]+`)

// argumentsOf are what a command's words stand for; NAME is one of what the command above
// it is about.
func argumentsOf(cmd *cobra.Command) []string {
	use, _, _ := strings.Cut(cmd.Use, " --")
	takes := argument.FindAllString(use, -1)
	if cmd.Name() == "create" || cmd.Name() == "import" || cmd.Name() == "bake" || cmd.Name() == "save" && len(takes) == 1 {
		return nil // a name that is not there yet
	}
	for k, word := range takes {
		if strings.HasPrefix(word, "NAME") || word == "ADDRESS" {
			takes[k] = strings.ToUpper(cmd.Parent().Name())
		}
	}
	return takes
}

// offered are the names of what a word stands for, as they are now.
func (a *app) offered(ctx context.Context, path, what string) []string {
	if few := values[path+" "+what]; few != nil {
		return few
	}
	ctx, cancel := context.WithTimeout(ctx, completionTime)
	defer cancel()
	var all []string
	for kind := range strings.SplitSeq(what, "|") {
		all = append(all, a.namesOf(ctx, kind)...)
	}
	return all
}

func (a *app) namesOf(ctx context.Context, kind string) []string {
	switch kind {
	case "GROUP":
		return names(a, func(c *client.Client) (*http.Response, error) { return c.ListGroups(ctx, nil) }, func(l contract.GroupList) []contract.Group { return l.Items }, func(g contract.Group) string { return g.Name })
	case "INSTANCE":
		return names(a, func(c *client.Client) (*http.Response, error) { return c.ListInstances(ctx, nil) }, func(l contract.InstanceList) []contract.Instance { return l.Items }, func(i contract.Instance) string { return i.Id })
	case "POOL":
		return names(a, func(c *client.Client) (*http.Response, error) { return c.ListPools(ctx, nil) }, func(l contract.PoolList) []contract.Pool { return l.Items }, func(p contract.Pool) string { return p.Name })
	case "LISTENER":
		return names(a, func(c *client.Client) (*http.Response, error) { return c.ListListeners(ctx) }, func(l contract.ListenerList) []contract.Listener { return l.Items }, func(l contract.Listener) string { return l.Address })
	case "CHECK", "HEAL":
		all := names(a, func(c *client.Client) (*http.Response, error) { return c.ListChecks(ctx, nil) }, func(l contract.CheckList) []contract.Check { return l.Items }, func(k contract.Check) string { return k.Name })
		if kind == "HEAL" {
			all = append(all, "off", "machine", "traffic")
		}
		return all
	case "SERVICE":
		s, _ := readSettings()
		return slices.Sorted(maps.Keys(s.Services))
	case "COURSE":
		return names(a, func(c *client.Client) (*http.Response, error) { return c.ListCourses(ctx) }, func(l contract.CourseList) []contract.Course { return l.Items }, func(k contract.Course) string { return k.Name })
	case "TEMPLATE":
		return names(a, func(c *client.Client) (*http.Response, error) { return c.ListTemplates(ctx, nil) }, func(l contract.TemplateList) []contract.Template { return l.Items }, func(t contract.Template) string { return fmt.Sprintf("%s@%d", t.Name, t.Version) })
	case "IMAGE":
		return names(a, func(c *client.Client) (*http.Response, error) { return c.ListImages(ctx, nil) }, func(l contract.ImageList) []contract.Image { return l.Items }, func(i contract.Image) string { return fmt.Sprintf("%s@%d", i.Name, i.Version) })
	case "ZONE", "REGION":
		places, _, err := ask[contract.PlaceList](a, func(c *client.Client) (*http.Response, error) { return c.ListPlaces(ctx) })
		if err != nil {
			return nil
		}
		var all []string
		for _, region := range places.Items {
			if kind == "REGION" {
				all = append(all, region.Name)
				continue
			}
			for _, z := range region.Zones {
				all = append(all, z.Name)
			}
		}
		return all
	}
	return nil
}

// names reads one page of names, none when the service does not answer: a completion has
// nowhere to complain.
func names[L, T any](a *app, call func(*client.Client) (*http.Response, error), items func(L) []T, name func(T) string) []string {
	l, _, err := ask[L](a, call)
	if err != nil {
		return nil
	}
	var all []string
	for _, item := range items(l) {
		all = append(all, name(item))
	}
	return all
}
