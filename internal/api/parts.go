package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/fleet/words"
)

// servicePart is something that the service rests on.
type servicePart = struct {
	Part contract.ServicePartsPart `json:"part"`
	Says string                    `json:"says"`
	Well bool                      `json:"well"`
}

// parts looks at each thing that the service rests on.
func (s *Server) parts(ctx context.Context) []servicePart {
	return []servicePart{s.databasePart(ctx), s.diskPart(), s.machinesPart(ctx), s.listenersPart(), s.groupsPart()}
}

func (s *Server) databasePart(ctx context.Context) servicePart {
	begun := time.Now()
	if err := s.Store.Ping(ctx); err != nil {
		return servicePart{Part: contract.Database, Says: "it does not answer; groups go on serving, and nothing can be changed"}
	}
	return servicePart{Part: contract.Database, Well: true, Says: fmt.Sprintf("it answers in %.1f ms", time.Since(begun).Seconds()*1000)}
}

func (s *Server) diskPart() servicePart {
	p := servicePart{Part: contract.Disk, Well: true}
	if err := s.Space.Room(); err != nil {
		return servicePart{Part: contract.Disk, Says: err.Error()}
	}
	if free, err := s.Space.Free(); err != nil {
		p.Well, p.Says = false, "how full it is cannot be read"
	} else {
		p.Says = fmt.Sprintf("%.1f GiB are free for the data directory", float64(free)/(1<<30))
	}
	return p
}

func (s *Server) machinesPart(ctx context.Context) servicePart {
	all, err := s.Machines.List(ctx)
	if err != nil {
		return servicePart{Part: contract.Machines, Says: "what runs cannot be listed; the service's log says why"}
	}
	return servicePart{Part: contract.Machines, Well: true, Says: words.Count(len(all), "machine") + " of this replica can be seen"}
}

func (s *Server) listenersPart() servicePart {
	var bad []string
	all := s.Balancer.Listening()
	for _, l := range all {
		if l.Trouble != "" {
			bad = append(bad, l.Address+": "+l.Trouble)
		}
	}
	switch {
	case !s.Control.IsOpen():
		return servicePart{Part: contract.Listeners, Says: "they open once the targets of all groups are known"}
	case len(bad) > 0:
		return servicePart{Part: contract.Listeners, Says: strings.Join(bad, "; ")}
	}
	return servicePart{Part: contract.Listeners, Well: true, Says: words.Count(len(all), "listener") + " open"}
}

func (s *Server) groupsPart() servicePart {
	if n := s.Control.StuckGroups(); n > 0 {
		return servicePart{Part: contract.Groups, Says: fmt.Sprintf("no decision about %s can be written", words.Count(n, "group"))}
	}
	return servicePart{Part: contract.Groups, Well: true, Says: "decisions can be written"}
}
