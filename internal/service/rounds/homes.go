package rounds

import (
	"context"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/door"
	"hen-roost/internal/service/seen"
)

// HomesDrafted is the round that takes homes away, and all homes that were looked at: those that stay say why.
type HomesDrafted struct {
	Round Round          `json:"round" doc:"its id is 0 when no home may go"`
	Homes seen.HomesSeen `json:"homes"`
}

// DraftHomes looks at homes on targets, and drafts a round that takes those away which nobody has used for so long: each
// is looked at again before it goes. how is archive or remove.
func (s *Carrier) DraftHomes(ctx context.Context, who door.Operator, targets []string, stale time.Duration, how,
	because string) (HomesDrafted, error) {
	if err := who.May(door.Draft); err != nil {
		return HomesDrafted{}, err
	}
	because, err := door.Reason(because)
	if err != nil {
		return HomesDrafted{}, err
	}
	if how != model.HomeArchived && how != model.HomeRemoved && how != model.HomeSealed {
		return HomesDrafted{}, door.Wrong("how",
			"%q: homes are kept in an archive there (archive), fetched and sealed here (seal), or go for "+
				"good (remove)", how)
	}
	var out HomesDrafted
	if out.Homes, err = s.Homes(ctx, who, targets, stale); err != nil {
		return out, err
	}
	out.Round, err = s.Ask(ctx, who, out.Homes.StaleActs(how), because)
	return out, err
}
