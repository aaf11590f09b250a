package manage

import (
	"context"
	"errors"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
	"steadyferry/internal/service/watches"
)

// NewSpace makes a space.
func (mg *Manage) NewSpace(ctx context.Context, who, name string, settings setting.Change) error {
	if err := access.Check(ctx, access.New, name); err != nil {
		return err
	}
	if _, err := settings.CheckBounds(ctx); err != nil {
		return err
	}
	if err := address.CheckName(name); err != nil {
		return problem.New(problem.Invalid, "the space: %v", err).Field("address").Allowed("names of 1 to 100 of a-z 0-9 . _ - that start with a letter or a digit")
	}
	if name == address.Nodes {
		return problem.New(problem.Invalid, "%s is where the nodes are named", name).Field("address").Allowed("any other name")
	}
	s := setting.Space{Labels: map[string]string{}}
	setting.Spaces.Apply(&s, settings)
	err := mg.catalog.NewSpace(ctx, &catalog.Space{Name: name, Space: s}, &catalog.Entry{Who: who, Action: "new space", Address: name, After: setting.Spaces.Show(&s, "")}, watches.Sensible(name)...)
	if errors.Is(err, catalog.ErrExists) {
		return problem.New(problem.Conflict, "space %s exists already", name).Field("address")
	}
	return part.Explain(err, name)
}

// SetSpace changes a space, or with preview only says what that would do.
func (mg *Manage) SetSpace(ctx context.Context, who, name string, settings setting.Change, preview bool) (p *form.Preview, err error) {
	if err := settings.Check(ctx, access.SetUp, name); err != nil {
		return nil, err
	}
	err = change.UntilFresh(ctx, mg.catalog, name, func() error {
		old, err := mg.parts.Space(name)
		if err != nil {
			return err
		}
		changed := *old
		setting.Spaces.Apply(&changed.Space, settings)
		if p, err = change.Preview(ctx, mg.catalog, name, setting.Spaces, &old.Space, &changed.Space, ""); err != nil || preview || len(p.After) == 0 {
			return err
		}
		return mg.catalog.SetSpace(ctx, old, &changed, &catalog.Entry{Who: who, Action: "set space", Address: name, Before: p.Before, After: p.After})
	})
	return p, err
}

// RemoveSpace deletes a space without channels.
func (mg *Manage) RemoveSpace(ctx context.Context, who, name string) error {
	if err := access.Check(ctx, access.Remove, name); err != nil {
		return err
	}
	s, err := mg.parts.Space(name)
	if err != nil {
		return err
	}
	if channels := mg.channelsOf(name); len(channels) > 0 {
		return problem.New(problem.Conflict, "space %s still has %s, the first is %s", name, words.Many(len(channels), "channel"), channels[0]).Next("remove its channels first")
	}
	for _, ch := range mg.catalog.View().Removed {
		if ch.SpaceID == s.ID {
			if err := mg.catalog.Forget(ctx, ch.ID, time.Now().Add(time.Minute)); err != nil {
				return part.Explain(err, name)
			}
		}
	}
	err = mg.catalog.RemoveSpace(ctx, s.ID, &catalog.Entry{Who: who, Action: "remove space", Address: name, Before: setting.Spaces.Show(&s.Space, "")})
	if errors.Is(err, catalog.ErrExists) {
		return problem.New(problem.Conflict, "space %s got a channel meanwhile", name)
	}
	return part.Explain(err, name)
}

func (mg *Manage) channelsOf(space string) []string {
	var names []string
	for name, ch := range mg.catalog.View().Channels {
		if ch.Space == space {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
