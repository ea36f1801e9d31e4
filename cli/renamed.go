package cli

import "github.com/spf13/cobra"

// What was called otherwise before is refused with its name of now, for one release.
var (
	renamedFlags = map[string]map[string]string{
		"hook":     {"--bound": "--max-deadline", "--new": "--rotate"},
		"image":    {"--at-rest": "--stop-first"},
		"listener": {"--kind": "--protocol", "--least-tls": "--min-tls", "--tell": "--proxy-protocol", "--near": "--region-order", "--log": "--access-log"},
		"pool":     {"--choose": "--algorithm", "--nobody": "--when-none-healthy", "--speak": "--protocol", "--stay": "--affinity", "--stay-for": "--affinity-for"},
		"metric":   {"--over": "--aggregate"},
		"notice":   {"--of": "--topic", "--new": "--rotate"},
		"rollout":  {"--leave-out": "--exclude"},
		"rule": {"--over": "--aggregate", "--line": "--threshold", "--target": "--keep-at", "--pace": "--shrink-rate", "--foresee": "--forecast",
			"--in": "--time-zone", "--span": "--duration"},
	}
	// Settings of flags, by the flag and what stands before the equals sign.
	renamedSettings = map[string]map[string]string{
		"route": {"divert": "split", "divert-header": "split-header"}, "add-route": {"divert": "split", "divert-header": "split-header"},
		"limit": {"quiet": "tunnel-idle", "head": "header", "head-size": "header-size"},
		"eject": {"points": "margin", "least": "min-requests", "first": "for", "most": "max"},
		"gate":  {"broken": "on-broken", "least": "min-requests", "undecided": "on-undecided"},
	}
	renamedCommands = map[string]string{"listener served": "listener access-log"}
)

func calledNow(was, now string) string { return was + " is called " + now + " now" }

// noFlag says that a command has no such flag, and what it is called where it had another name.
func noFlag(cmd *cobra.Command, flag string) error {
	if of := cmd.Parent(); of != nil {
		if now := renamedFlags[of.Name()][flag]; now != "" && cmd.Flags().Lookup(now[2:]) != nil {
			return misused("%s", calledNow(flag, now))
		}
	}
	return misused("there is no flag %s here", flag)
}
