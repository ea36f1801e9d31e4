package api

import (
	"context"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/fleet/say"
	"unitas/internal/store"
)

// GetWanted shows what decisions about a group go by.
func (s *Server) GetWanted(ctx context.Context, r routes.GetWantedRequestObject) (routes.GetWantedResponseObject, error) {
	p, err := s.Control.Picture(ctx, r.Name)
	if err == nil && p.Group.Alone {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, about("group", r.Name, err)
	}
	view := p.View()
	now := s.now()
	w := fleet.Wants(now, view)
	out := contract.Wanted{Goal: contract.WantedGoal(w.Goal), Size: w.Size, LeastServing: w.Least, MostInstances: w.Most, Instances: w.Counted, Serving: w.Serving}
	out.Sentence, out.WaitsFor = say.Wanted(now, view, w)
	out.WaitsFor = append([]string{}, out.WaitsFor...)
	out.Versions = each(w.Versions, func(v fleet.WantedVersion) contract.WantedVersion {
		return contract.WantedVersion{Version: v.Version.String(), Instances: v.Counted, Serving: v.Serving, Stay: v.Stay, Wanted: v.Wanted,
			Zones: each(v.Zones, func(z fleet.WantedZone) contract.WantedZone {
				return contract.WantedZone{Zone: z.Zone, Instances: z.Counted, Serving: z.Serving, Wanted: z.Wanted}
			})}
	})
	return routes.GetWanted200JSONResponse(out), nil
}
