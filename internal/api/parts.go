package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	"unitas/api/contract"
	"unitas/internal/control"
	"unitas/internal/fleet/words"
)

// parts looks at each thing that the service rests on.
func (s *Server) parts(ctx context.Context, restored *control.Found) []contract.ServicePart {
	return []contract.ServicePart{s.databasePart(ctx), s.diskPart(), s.machinesPart(ctx), s.listenersPart(restored), s.groupsPart(restored)}
}

// troubles are what keeps the service from working as it should, in sentences.
func troubles(parts ...contract.ServicePart) []string {
	all := []string{}
	for _, p := range parts {
		if !p.Well {
			all = append(all, sentenceOf(p.Says))
		}
	}
	return all
}

func (s *Server) databasePart(ctx context.Context) contract.ServicePart {
	begun := time.Now()
	if err := s.Store.Ping(ctx); err != nil {
		return contract.ServicePart{Part: contract.Database, Says: "the database does not answer. Groups go on serving; nothing can be changed"}
	}
	return contract.ServicePart{Part: contract.Database, Well: true, Says: fmt.Sprintf("it answers in %.1f ms", time.Since(begun).Seconds()*1000)}
}

func (s *Server) diskPart() contract.ServicePart {
	p := contract.ServicePart{Part: contract.Disk, Well: true}
	if err := s.Space.Room(); err != nil {
		return contract.ServicePart{Part: contract.Disk, Says: err.Error()}
	}
	if free, err := s.Space.Free(); err != nil {
		p.Well, p.Says = false, "how full it is cannot be read"
	} else {
		p.Says = fmt.Sprintf("%.1f GiB are free for the data directory", float64(free)/(1<<30))
	}
	return p
}

func (s *Server) machinesPart(ctx context.Context) contract.ServicePart {
	all, err := s.Machines.List(ctx)
	if err != nil {
		return contract.ServicePart{Part: contract.Machines, Says: "what runs cannot be listed; the service's log says why"}
	}
	if strays := s.Control.Strays(); len(strays) > 0 {
		names := make([]string, 0, 5)
		for _, m := range strays[:min(len(strays), 5)] {
			names = append(names, fmt.Sprintf("%s in %s", m.Machine, words.Span(m.Stops.Round(time.Second))))
		}
		return contract.ServicePart{Part: contract.Machines, Says: fmt.Sprintf("no record knows %s, which %s stopped: %s. Are these the records of these machines? If so, unitas service stop-strays stops them now", words.Count(len(strays), "machine"), map[bool]string{true: "is", false: "are"}[len(strays) == 1], strings.Join(names, ", "))}
	}
	return contract.ServicePart{Part: contract.Machines, Well: true, Says: words.Count(len(all), "machine") + " of this replica can be seen"}
}

func (s *Server) listenersPart(restored *control.Found) contract.ServicePart {
	if restored != nil {
		return contract.ServicePart{Part: contract.Listeners, Says: "they open once the service is resumed"}
	}
	var bad []string
	all := s.Balancer.Listening()
	for _, l := range all {
		if l.Trouble != "" {
			bad = append(bad, l.Address+": "+l.Trouble)
		}
	}
	switch {
	case !s.Control.IsOpen():
		return contract.ServicePart{Part: contract.Listeners, Says: "they open once the targets of all groups are known"}
	case len(bad) > 0:
		return contract.ServicePart{Part: contract.Listeners, Says: strings.Join(bad, "; ")}
	}
	return contract.ServicePart{Part: contract.Listeners, Well: true, Says: words.Count(len(all), "listener") + " open"}
}

func (s *Server) groupsPart(restored *control.Found) contract.ServicePart {
	if restored != nil {
		return contract.ServicePart{Part: contract.Groups, Says: s.Control.InWords(restored)}
	}
	if n := s.Control.StuckGroups(); n > 0 {
		return contract.ServicePart{Part: contract.Groups, Says: fmt.Sprintf("no decision about %s can be written: the pages of groups that are stuck say why", words.Count(n, "group"))}
	}
	return contract.ServicePart{Part: contract.Groups, Well: true, Says: "decisions can be written"}
}
