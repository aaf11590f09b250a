package access

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// maskKey is how many bytes the key of a mask has, by which values are hashed.
const maskKey = 32

// compiledMask is what a mask hides; ok is false when it hides nothing.
func compiledMask(m *catalog.Mask) (one access.Mask, ok bool) {
	on, err := address.ParsePattern(m.On)
	return access.Mask{Mask: mask.New(m.Name, m.Show, m.Fields, m.Key), On: on, For: m.For}, err == nil
}

// maskedBy are the masks that there are, in the order of their names.
func maskedBy(v *catalog.View) (all []access.Mask) {
	for _, m := range v.Masks {
		if one, ok := compiledMask(m); ok {
			all = append(all, one)
		}
	}
	slices.SortFunc(all, func(a, b access.Mask) int { return strings.Compare(a.Name(), b.Name()) })
	return all
}

// Masks lists what hides something from whoever asks, and what it could take away.
func (s *Service) Masks(ctx context.Context) []form.Mask {
	all := []form.Mask{}
	var mine []string
	if a, ok := access.In(ctx); ok {
		mine = a.Rights().Roles()
	}
	for _, m := range s.catalog.View().Masks {
		if access.May(ctx, access.Access, m.On) || slices.ContainsFunc(m.For, func(role string) bool { return slices.Contains(mine, role) }) {
			all = append(all, form.Mask{Name: m.Name, On: m.On, Fields: m.Fields, Show: m.Show, For: m.For, Description: m.Description, CreatedAt: m.CreatedAt.UTC()})
		}
	}
	slices.SortFunc(all, func(a, b form.Mask) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// mayMask says why whoever asks may not have fields hidden, or shown again, at what a pattern
// covers: who sees only a part of them could show itself the rest.
func (s *Service) mayMask(ctx context.Context, on string) error {
	p, err := address.ParsePattern(on)
	if err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("on").Allowed("the address of a channel, or a pattern such as coldchain/*")
	}
	if err := access.CheckOn(ctx, access.Access, p); err != nil {
		return err
	}
	a, _ := access.In(ctx)
	return unmasked(a, p, on)
}

// unmasked says why who asks sees not all of what is in messages at what a pattern covers.
func unmasked(a access.Asker, p address.Pattern, on string) error {
	if a.Rights().Unmasked(p) {
		return nil
	}
	return &access.RefusedError{Verb: access.Access, At: on, Err: problem.New(problem.Refused, "a mask hides fields from %s on %s, who so cannot show them to others or to itself", a.Who(), on).Next("ask somebody who sees all of them")}
}

// NewMask hides fields, or with preview only says from whom.
func (s *Service) NewMask(ctx context.Context, who, name string, settings setting.Change, preview bool) (*form.Preview, error) {
	m, err := s.newMask(name, settings, nil)
	if err != nil {
		return nil, err
	}
	if err := s.mayMask(ctx, m.On); err != nil {
		return nil, err
	}
	v := s.catalog.View()
	p := &form.Preview{Address: catalog.MasksPlace + "/" + name, Effects: s.hides(v, m, "does not see %s of %s any more: it is %s")}
	if preview {
		return p, nil
	}
	return p, s.made(s.catalog.NewRights(ctx, &catalog.Entry{Who: who, Action: "new mask", Address: p.Address, After: setting.Masks.Show(&m.Mask, "")}, catalog.Rights{Masks: []*catalog.Mask{m}}), name)
}

// newMask is a mask that is to be made, or why there can be none; made reports which roles are
// made before it.
func (s *Service) newMask(name string, settings setting.Change, made func(role string) bool) (*catalog.Mask, error) {
	if err := address.CheckName(name); err != nil {
		return nil, problem.New(problem.Invalid, "%v", err).Field("name")
	}
	if s.catalog.View().Masks[catalog.MasksPlace+"/"+name] != nil {
		return nil, s.made(catalog.ErrExists, name)
	}
	m := &catalog.Mask{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}}
	setting.Masks.SetDefaults(&m.Mask, "")
	setting.Masks.Apply(&m.Mask, settings)
	m.Key = make([]byte, maskKey)
	rand.Read(m.Key)
	return m, s.checkMask(m, made)
}

func (s *Service) checkMask(m *catalog.Mask, made func(role string) bool) error {
	if _, err := address.ParsePattern(m.On); err != nil {
		return problem.New(problem.Invalid, "%v", err).Field("on").Allowed("the address of a channel, or a pattern such as coldchain/*")
	}
	switch {
	case len(m.Fields) == 0:
		return problem.New(problem.Invalid, "a mask that hides nothing").Field("fields").Allowed(setting.Fields().Allowed)
	case len(m.For) == 0:
		return problem.New(problem.Invalid, "it is not said from which roles the fields are hidden").Field("for").Allowed("names of roles: ferry access roles lists them")
	}
	for _, role := range m.For {
		if _, known := roleNamed(s.catalog.View(), role); !known && (made == nil || !made(role)) {
			return s.noRole(role)
		}
		if role == access.RoleOwner {
			return problem.New(problem.Invalid, "the role owner sees everything").Field("for")
		}
	}
	return nil
}

// SetMask changes a mask, or with preview only says what that would do. It takes what making it
// would, as it was and as it becomes.
func (s *Service) SetMask(ctx context.Context, who, name string, settings setting.Change, preview bool) (p *form.Preview, err error) {
	at := catalog.MasksPlace + "/" + name
	err = change.UntilFresh(ctx, s.catalog, at, func() error {
		v := s.catalog.View()
		old := v.Masks[at]
		if old == nil {
			return noMask(name)
		}
		is := *old
		setting.Masks.Apply(&is.Mask, settings)
		for _, on := range []string{old.On, is.On} {
			if err := s.mayMask(ctx, on); err != nil {
				return err
			}
		}
		if err := s.checkMask(&is, nil); err != nil {
			return err
		}
		if p, err = change.Preview(ctx, s.catalog, at, setting.Masks, &old.Mask, &is.Mask, ""); err != nil || len(p.After) == 0 {
			return err
		}
		if p.Effects = append(p.Effects, s.hides(v, &is, "does not see %s of %s then: it is %s")...); preview {
			return nil
		}
		return s.catalog.SetMask(ctx, &is, &catalog.Entry{Who: who, Action: "set mask", Address: at, Before: p.Before, After: p.After})
	})
	return p, err
}

func noMask(name string) error {
	return problem.New(problem.NotFound, "there is no mask %s", name).Field("mask").Next("ferry access masks lists those that there are")
}

// RemoveMask has fields be seen again, or with preview only says by whom.
func (s *Service) RemoveMask(ctx context.Context, who, name string, preview bool) (*form.Preview, error) {
	m := s.catalog.View().Masks[catalog.MasksPlace+"/"+name]
	if m == nil {
		return nil, noMask(name)
	}
	if err := s.mayMask(ctx, m.On); err != nil {
		return nil, err
	}
	p := &form.Preview{Address: catalog.MasksPlace + "/" + name, Effects: s.hides(s.catalog.View(), m, "sees %s of %s, which is %s now")}
	if preview {
		return p, nil
	}
	return p, part.Explain(s.catalog.RemoveMask(ctx, m.ID, &catalog.Entry{Who: who, Action: "remove mask", Address: p.Address, Before: setting.Masks.Show(&m.Mask, "")}), name)
}

// mostTold is how many principals the effects of a mask name, and at how many channels they are
// looked for.
const mostTold = 50

// hides says for whom a mask hides what at some channel, if nothing else does: those that see
// messages by the roles that it is for alone.
func (s *Service) hides(v *catalog.View, m *catalog.Mask, says string) (effects []string) {
	one, ok := compiledMask(m)
	if !ok {
		return []string{"it hides nothing"}
	}
	places := []string{m.On}
	for at := range v.Channels {
		if one.On.Covers(at) && len(places) < mostTold {
			places = append(places, at)
		}
	}
	now := time.Now()
	for _, p := range v.Principals {
		r := access.NewRights(given(v, p.Name), now).Through([]access.Mask{one})
		hidden := func(at string) bool {
			return slices.ContainsFunc(access.Contents.Verbs(), func(verb access.Verb) bool { return len(r.Sight(verb, at).Names()) > 0 })
		}
		if p.Name != catalog.Owner && slices.ContainsFunc(places, hidden) {
			effects = append(effects, p.Name+" "+fmt.Sprintf(says, strings.Join(m.Fields, ", "), m.On, m.Show))
		}
	}
	slices.Sort(effects)
	if more := len(effects) - mostTold; more > 0 {
		effects = append(effects[:mostTold], fmt.Sprintf("and so do %d others", more))
	}
	if len(effects) == 0 {
		effects = []string{"it makes no difference to anybody now"}
	}
	return effects
}
