package cli

import (
	"context"
	"net/http"
	"slices"

	"github.com/spf13/cobra"

	"unitas/client"
)

// tried are the commands that --dry-run only tries, besides those that have a review of their own.
var tried = []string{
	"image mark", "image unmark", "image withdraw", "template mark", "template unmark", "template withdraw", "template delete",
	"check create", "check set", "check delete", "listener create", "listener set", "listener delete", "pool create", "pool set", "pool delete",
	"group freeze", "group thaw", "group heal", "group delete", "instance launch", "instance pin", "instance unpin", "instance park", "instance unpark",
	"instance recreate", "instance retire", "instance release", "rule remove", "hook add", "hook set", "hook remove",
	"drill start", "rollout hold", "rollout proceed", "rollout revert", "course save", "course delete",
	"notice add", "notice set", "notice remove",
}

// tries gives those commands --dry-run.
func (a *app) tries(root *cobra.Command) {
	for _, top := range root.Commands() {
		for _, cmd := range top.Commands() {
			if !slices.Contains(tried, top.Name()+" "+cmd.Name()) {
				continue
			}
			cmd.Flags().BoolVar(&a.dry, "dry-run", false, "only say what would come of it; nothing is changed")
			run := cmd.RunE
			cmd.RunE = func(cmd *cobra.Command, args []string) error {
				for _, flag := range []string{"wait", "watch"} {
					if a.dry && cmd.Flags().Changed(flag) {
						return misused("--%s: with --dry-run nothing comes that could be waited for; give one of them", flag)
					}
				}
				return run(cmd, args)
			}
		}
	}
}

// onlyTried has the service undo what it is told to change.
var onlyTried = client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
	if r.Method != http.MethodGet {
		q := r.URL.Query()
		q.Set("dry_run", "true")
		r.URL.RawQuery = q.Encode()
	}
	return nil
})

// framed marks what a command says that was only tried.
func (a *app) framed(text string) string {
	if !a.dry {
		return text
	}
	return "Only tried: " + text + "Nothing was changed; leave out --dry-run to change it.\n"
}
