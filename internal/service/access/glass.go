package access

import (
	"context"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// GlassOpens is for how long contents are seen by who has broken the glass.
const GlassOpens = time.Hour

// BreaksGlass is what it is called when somebody opens contents for a while.
const BreaksGlass = "break the glass"

// opens reports whether a grant lets break the glass at a time.
func opens(g *catalog.Grant, now time.Time) bool {
	until, err := time.Parse(time.RFC3339, g.Until)
	return g.Opens && (g.Until == "" || err == nil && until.After(now))
}

// MayBreakGlass are the patterns on which somebody may open contents for a while.
func (s *Service) MayBreakGlass(name string) []string {
	v, all := s.catalog.View(), []string{}
	if p := v.Principal(name); p != nil && !p.Paused {
		for _, g := range v.Grants {
			if holds(p, g.To) && opens(g, time.Now()) {
				all = append(all, g.On)
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// lets reports whether one of some patterns has in it all that another one covers.
func lets(patterns []string, on string) bool {
	pattern, err := address.ParsePattern(on)
	return err == nil && slices.ContainsFunc(patterns, func(wide string) bool {
		whole, err := address.ParsePattern(wide)
		return err == nil && pattern.Within(whole)
	})
}

// BreakGlass has whoever asks see what is in messages at what a pattern covers for GlassOpens, with
// a reason that is recorded, or with preview only says so. A grant must let do that there; those
// who have access there are told, by the watch nodes/glass.
func (s *Service) BreakGlass(ctx context.Context, on, why string, preview bool) (*form.Preview, error) {
	if _, err := address.ParsePattern(on); err != nil {
		return nil, problem.New(problem.Invalid, "%v", err).Field("on").Allowed("the address of a channel, or a pattern such as coldchain/*")
	}
	if _, err := setting.Sentence(setting.MaxDescription).Parse("why", why); err != nil {
		return nil, err
	}
	if strings.TrimSpace(why) == "" {
		return nil, problem.New(problem.Invalid, "why contents are opened is missing").Field("why").Allowed("a few words, such as: the clinic cannot find its box")
	}
	a, _ := access.In(ctx)
	one, is := a.(*asker)
	v, now := s.catalog.View(), time.Now()
	if !is || one.by.role != "" || !lets(s.MayBreakGlass(one.by.principal), on) {
		name := ""
		if a != nil {
			name = a.Who()
		}
		return nil, &access.RefusedError{Verb: access.SeeContent, At: on, Err: problem.New(problem.Refused, "%s may not break the glass on %s", name, on).
			Next("a grant with -opens lets do that, with a token that is for no role alone; %s can give it: ferry access new grant %s -role ROLE -on %s -opens", some(who(v, access.Access, on)), name, on)}
	}
	until := now.Add(GlassOpens).UTC().Truncate(time.Second)
	p := &form.Preview{Address: on, Effects: []string{
		one.by.principal + " sees what is in messages of " + on + " until " + until.Format(time.RFC3339),
		"it is in the logbook with the reason, and an incident of the watch nodes/glass tells of it",
	}}
	if preview {
		return p, nil
	}
	g := &catalog.Grant{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: grantName()}, Grant: setting.Grant{To: one.by.principal, Role: access.RoleBreakGlass, On: on, Until: until.Format(time.RFC3339), Why: why}}
	e := &catalog.Entry{Who: one.by.principal, Action: BreaksGlass, Address: on, After: map[string]any{"why": why, "until": g.Until}}
	return p, part.Explain(s.catalog.NewRights(ctx, e, catalog.Rights{Grants: []*catalog.Grant{g}}), on)
}
