package store

import (
	"context"

	"hen-roost/internal/core/model"
)

// PeopleOn hands on every open account of people that some targets were last seen to hold: where, its name, and whether it can
// become superuser.
func (s *Store) PeopleOn(ctx context.Context, targets []string, found func(target, account string, superuser bool) error) error {
	for from := 0; from < len(targets); from += observedGroup {
		some := targets[from:min(from+observedGroup, len(targets))]
		args := []any{model.Account.String()}
		for _, t := range some {
			args = append(args, t)
		}
		rows, err := s.db.QueryxContext(ctx, `SELECT target, name, belongs FROM observed WHERE kind = ? AND target IN `+oneOf(len(some))+
			` AND belongs NOT IN `+withSystem, args...)
		if err != nil {
			return err
		}
		for rows.Next() {
			var target, name string
			var flags int
			if err = rows.Scan(&target, &name, &flags); err == nil && flags&shutFlag == 0 {
				err = found(target, name, flags&powerFlag != 0)
			}
			if err != nil {
				rows.Close()
				return err
			}
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return err
		}
	}
	return nil
}

// Systems are the objects that are targets themselves, by target.
func (s *Store) Systems(ctx context.Context, targets []string) (map[string]model.Object, error) {
	out := map[string]model.Object{}
	for from := 0; from < len(targets); from += observedGroup {
		some := targets[from:min(from+observedGroup, len(targets))]
		args := []any{model.SystemKind.String(), model.Itself}
		for _, t := range some {
			args = append(args, t)
		}
		var rows []observedRow
		if err := s.db.SelectContext(ctx, &rows, `SELECT target, body FROM observed WHERE kind = ? AND name = ? AND target IN `+
			oneOf(len(some)), args...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			o := model.Object{Kind: model.SystemKind, Name: model.Itself}
			if err := fill(&o, nil, nil, r.Body); err != nil {
				return nil, err
			}
			out[r.Target] = o
		}
	}
	return out, nil
}
