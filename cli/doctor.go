package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

// finding is what was found of one part of the set-up.
type finding struct {
	Part string `json:"part"`
	Well bool   `json:"well"`
	Says string `json:"says"`
	// Do is what to do, when it is not well.
	Do string `json:"do,omitempty"`
}

// clockApart is how far the clocks of this machine and the service may be apart: what is
// told as so long ago is wrong by as much.
const clockApart = 5 * time.Second

func (a *app) doctorCommand() *cobra.Command {
	return &cobra.Command{Use: "doctor", Short: "Look at the set-up, and say what is wrong with it and what to do", Args: exactly(),
		Long: `Looks at everything that must be right before anything else can be: the service is
reached, knows the token, is of the same version as this command, its database and disk
are well, its machines can be seen, its listeners are open, decisions can be written,
and its clock is that of this machine. It ends with status 3 when something is wrong.`,
		Example: "  unitas doctor\n  unitas --use headland doctor -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all := a.examine(cmd)
			wrong := 0
			for _, f := range all {
				if !f.Well {
					wrong++
				}
			}
			if err := a.print(all, func() string {
				var text string
				for _, f := range all {
					mark := "  "
					if !f.Well {
						mark = trouble.paint("▲ ")
					}
					text += fmt.Sprintf("%s%-10s %s\n", mark, f.Part, f.Says)
					if f.Do != "" {
						text += "             " + f.Do + "\n"
					}
				}
				if wrong == 0 {
					text += "All of it is well.\n"
				}
				return text
			}); err != nil {
				return err
			}
			if wrong > 0 {
				return badEnd{fmt.Sprintf("%d of %d parts are not well", wrong, len(all))}
			}
			return nil
		}}
}

// examine looks at one part after another; what rests on one that is broken is not looked at.
func (a *app) examine(cmd *cobra.Command) []finding {
	ctx, cancel := context.WithTimeout(cmd.Context(), 10*time.Second)
	defer cancel()
	if err := a.chooseService(cmd); err != nil {
		return []finding{{Part: "settings", Says: err.Error(), Do: "see them with: unitas config list"}}
	}
	all := []finding{{Part: "settings", Well: true, Says: "the service is " + a.server + ", the token is in " + a.tokenIn()}}
	if f := a.tokenOpen(); f.Part != "" {
		all = append(all, f)
	}
	begun := time.Now()
	s, _, err := ask[contract.Service](a, func(c *client.Client) (*http.Response, error) { return c.GetService(ctx) })
	took := time.Since(begun)
	var away *unreached
	switch {
	case errors.As(err, &away):
		return append(all, finding{Part: "service", Says: "it is not reached: " + network(away.err), Do: "name another with --server or --use"})
	case client.Is(err, "unauthorized"):
		return append(all, finding{Part: "service", Well: true, Says: "it answers"},
			finding{Part: "token", Says: "the service does not know it", Do: "the first token of a service is in the file token of its data directory; name it with --token-file"})
	case err != nil:
		return append(all, finding{Part: "service", Says: oneLine(err)})
	}
	all = append(all, finding{Part: "service", Well: true, Says: "it answers in " + words.Span(took)}, finding{Part: "token", Well: true, Says: "the service knows it"})
	version := finding{Part: "version", Well: true, Says: "the service and this command are both " + s.Version}
	if own := cmd.Root().Version; own != "" && own != s.Version {
		version = finding{Part: "version", Says: fmt.Sprintf("the service is %s and this command %s", s.Version, own), Do: "use the command of the service's version"}
	}
	all = append(all, version, clockBeside(s.Now, begun.Add(took/2)))
	for _, p := range s.Parts {
		f := finding{Part: string(p.Part), Well: p.Well, Says: p.Says}
		if !p.Well {
			f.Do = remedies[p.Part]
		}
		all = append(all, f)
	}
	return all
}

// remedies are what to do about a part of the service that is not well.
var remedies = map[contract.ServicePartPart]string{
	contract.Database:  "start the database again; the service goes on by itself once it answers",
	contract.Disk:      "make room on the disk of the data directory; the service goes on by itself",
	contract.Machines:  "read the service's log",
	contract.Listeners: "see which with: unitas listener list",
	contract.Groups:    "the pages of the groups say why; see: unitas group list",
}

// tokenIn says where the token comes from.
func (a *app) tokenIn() string {
	if os.Getenv("UNITAS_TOKEN") != "" {
		return "UNITAS_TOKEN"
	}
	return a.tokenFile
}

// tokenOpen is a finding when others can read the token.
func (a *app) tokenOpen() finding {
	if os.Getenv("UNITAS_TOKEN") != "" {
		return finding{}
	}
	info, err := os.Stat(a.tokenFile)
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return finding{}
	}
	return finding{Part: "token file", Says: fmt.Sprintf("others on this machine can open %s (mode %o)", a.tokenFile, info.Mode().Perm()), Do: "close it to them with: chmod 600 " + a.tokenFile}
}

// clockBeside holds the service's clock against that of this machine.
func clockBeside(theirs, ours time.Time) finding {
	by := theirs.Sub(ours)
	if by.Abs() <= clockApart {
		return finding{Part: "time", Well: true, Says: "the clocks of the service and this machine are less than " + words.Span(clockApart) + " apart"}
	}
	way := "ahead of"
	if by < 0 {
		way = "behind"
	}
	return finding{Part: "time", Says: fmt.Sprintf("the service's clock is %s %s that of this machine", words.Span(by.Abs()), way), Do: "set both by a time server; what is told as so long ago is wrong by as much"}
}
