package httpapi

import (
	"context"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/reachmap"
)

// reachFilter is which logins are asked for.
func reachFilter(text, region, label, holder, key *string) (f record.ReachFilter, err error) {
	f = record.ReachFilter{Text: given(text), Region: given(region), Holder: given(holder), Keys: oneOf(key)}
	f.LabelName, f.LabelText, err = labelFrom(label)
	return f, err
}

func (a *api) GetReachMap(
	ctx context.Context, r contract.GetReachMapRequestObject,
) (contract.GetReachMapResponseObject, error) {
	q := r.Params
	filter, err := reachFilter(q.Q, q.Region, q.Label, q.Holder, q.Key)
	if err != nil {
		return nil, err
	}
	limit := 200
	if q.Limit != nil {
		limit = *q.Limit
	}
	m, err := a.Service.Maps.Map(ctx, access.ReachWanted{
		ReachFilter: filter, State: string(given(q.State)), Drift: given(q.Drift), Limit: limit,
	})
	return contract.GetReachMap200JSONResponse{
		Keys: each(m.Keys, func(k reachmap.Key) contract.MapKey {
			return contract.MapKey{
				Name:   k.Name,
				Sha256: keypair.FormatSHA256(k.SHA256),
				Holder: k.HolderName,
				State:  contract.KeyState(k.State),
				Fresh:  k.Fresh,
				Logins: k.Logins,
			}
		}),
		Logins: each(m.Logins, func(l reachmap.Login) contract.MapLogin {
			return contract.MapLogin{
				Login:     l.Name,
				Reach:     contract.ReachState(l.State),
				Strangers: l.Strangers,
				Steward:   l.Steward,
				Cells: each(l.Cells, func(c reachmap.Cell) contract.MapCell {
					return contract.MapCell{Key: c.Key, Status: contract.Status(c.Status)}
				}),
			}
		}),
		Total: m.Total,
	}, err
}

func (a *api) GetReachGroups(
	ctx context.Context, r contract.GetReachGroupsRequestObject,
) (contract.GetReachGroupsResponseObject, error) {
	q := r.Params
	filter, err := reachFilter(q.Q, q.Region, q.Label, q.Holder, q.Key)
	if err != nil {
		return nil, err
	}
	limit := 200
	if q.Limit != nil {
		limit = *q.Limit
	}
	g, err := a.Service.Maps.Groups(ctx, access.ReachWanted{
		ReachFilter: filter, State: string(given(q.State)), Drift: given(q.Drift), Limit: limit,
	}, given(q.Row))
	return contract.GetReachGroups200JSONResponse{
		Logins: g.Logins,
		Total:  g.Total,
		Columns: each(g.Columns, func(c reachmap.Column) contract.MapColumn {
			return contract.MapColumn{
				Count:  c.Count,
				Logins: c.Logins,
				Fresh:  c.Fresh,
				Keys: each(c.Keys, func(k record.ReachKey) contract.MapKeyName {
					return contract.MapKeyName{
						Name: k.Name, Sha256: keypair.FormatSHA256(k.SHA256), Holder: k.HolderName, State: contract.KeyState(k.State),
					}
				}),
			}
		}),
		Rows: each(g.Rows, func(row reachmap.Row) contract.MapRow {
			counts := map[string]int{}
			for state, n := range row.Counts {
				counts[string(state)] = n
			}
			return contract.MapRow{
				Id: row.ID, Count: row.Count, Names: row.Names, Counts: counts, Strangers: row.Strangers,
				Cells: each(row.Marks, func(m reach.Mark) contract.MapCell {
					return contract.MapCell{Key: m.Key, Status: contract.Status(m.Status)}
				}),
			}
		}),
	}, err
}
