package access

import (
	"slices"
	"strings"
	"sync"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/mask"
)

// Grant gives verbs on what a pattern covers.
type Grant struct {
	Verbs Set
	On    address.Pattern
	Until time.Time // zero: it has no end
	Role  string    // by which it gives them; masks are for roles

	// Second is that what is dangerous of it takes somebody else who may do it too.
	Second bool
}

// Dangerous are the verbs that a grant may want a second person for: what they do is not easily
// taken back.
var Dangerous = Of(Discard, Remove, Access, Nodes)

// Mask hides fields of messages, at what a pattern covers, from who sees them by some roles alone.
type Mask struct {
	*mask.Mask
	On  address.Pattern
	For []string
}

// Rights are what somebody may do: all of their grants together. They do not
// change; whoever gets another grant has other rights. It is safe to ask them
// from several goroutines.
type Rights struct {
	grants []Grant     // by pattern and role, each once
	masks  []Mask      // that may hide something
	all    Set         // verbs at every address
	scope  *Rights     // nil, or what a credential is limited to
	until  []time.Time // ends that are still to come, when they were made
	mu     sync.RWMutex
	known  map[string]Set // by address, what was asked before; guarded by mu
}

var everything = must(address.ParsePattern("*"))

// Whole are the rights of who may do everything.
var Whole = NewRights([]Grant{{Verbs: Everything, On: everything}}, time.Time{})

func must(p address.Pattern, err error) address.Pattern {
	if err != nil {
		panic(err) // it is ours
	}
	return p
}

// mostKnown bounds the addresses that are remembered.
const mostKnown = 8192

// NewRights puts grants together that are in force at a time.
func NewRights(grants []Grant, now time.Time) *Rights {
	r := &Rights{known: map[string]Set{}}
	type place struct {
		on, role string
		second   bool
	}
	at := map[place]int{}
	for _, g := range grants {
		if !g.Until.IsZero() {
			if !g.Until.After(now) {
				continue
			}
			r.until = append(r.until, g.Until)
		}
		here := place{g.On.String(), g.Role, g.Second}
		if i, ok := at[here]; ok {
			r.grants[i].Verbs |= g.Verbs
			continue
		}
		at[here] = len(r.grants)
		r.grants = append(r.grants, Grant{Verbs: g.Verbs, On: g.On, Role: g.Role, Second: g.Second})
	}
	r.all = r.On(everything) // each list asks for it
	return r
}

// Through returns the rights with masks before what they let see.
func (r *Rights) Through(masks []Mask) *Rights {
	return &Rights{grants: r.grants, masks: masks, all: r.all, scope: r.scope, until: r.until, known: map[string]Set{}}
}

// Sight returns what is seen of messages at an address by a verb that gives them out. A mask is
// before it when each grant that gives the verb there is of a role that the mask is for.
func (r *Rights) Sight(v Verb, at string) *mask.Sight {
	if !r.May(v, at) {
		return mask.Nothing
	}
	of := thing(at)
	var before []*mask.Mask
	for _, m := range r.masks {
		free := func(g Grant) bool { return g.Verbs.Has(v) && g.On.Covers(of) && !slices.Contains(m.For, g.Role) }
		if m.On.Covers(of) && !slices.ContainsFunc(r.grants, free) {
			before = append(before, m.Mask)
		}
	}
	sight := mask.Through(before)
	if r.scope != nil {
		sight = sight.And(r.scope.Sight(v, at))
	}
	return sight
}

// Contents are the verbs that give out what is in messages.
var Contents = Of(SeeContent, Read, Lease, Export)

// Roles are those by which something is allowed, each once.
func (r *Rights) Roles() (all []string) {
	for _, g := range r.grants {
		if !slices.Contains(all, g.Role) {
			all = append(all, g.Role)
		}
	}
	return all
}

// Unmasked reports whether no mask can be before what is seen at what a pattern covers: none that
// is for a role that is had, unless another role shows all, and not only for a while.
func (r *Rights) Unmasked(p address.Pattern) bool {
	for _, m := range r.masks {
		of := func(g Grant) bool { return g.Verbs.Without(Contents) != g.Verbs }
		under := func(g Grant) bool { return of(g) && slices.Contains(m.For, g.Role) }
		free := func(g Grant) bool {
			return of(g) && g.Role != RoleBreakGlass && !slices.Contains(m.For, g.Role) && (p.Within(g.On) || m.On.Within(g.On))
		}
		if slices.ContainsFunc(r.grants, under) && !slices.ContainsFunc(r.grants, free) {
			return false
		}
	}
	return r.scope == nil || r.scope.Unmasked(p)
}

// thing is what rights at an address are looked up by.
func thing(at string) string {
	of, _, _ := strings.Cut(at, "#")
	return strings.TrimSuffix(of, "/dead")
}

// Within returns the rights limited to what others allow too.
func (r *Rights) Within(scope *Rights) *Rights {
	return &Rights{grants: r.grants, masks: r.masks, all: r.all & scope.all, scope: scope, until: slices.Concat(r.until, scope.until), known: map[string]Set{}}
}

// Hold reports whether no grant has ended since they were made.
func (r *Rights) Hold(now time.Time) bool {
	return !slices.ContainsFunc(r.until, func(end time.Time) bool { return !end.After(now) })
}

// At returns the verbs at an address: of a space, a channel, a group, or another
// thing that is named so. Partitions, messages and dead letters have those of
// their queue or group.
func (r *Rights) At(at string) Set {
	r.mu.RLock()
	s, ok := r.known[at]
	r.mu.RUnlock()
	if ok {
		return s
	}
	of := thing(at)
	for i := range r.grants {
		if g := &r.grants[i]; s|g.Verbs != s && g.On.Covers(of) {
			s |= g.Verbs
		}
	}
	if r.scope != nil {
		s &= r.scope.At(at)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.known) >= mostKnown {
		clear(r.known)
	}
	r.known[strings.Clone(at)] = s
	return s
}

// May reports whether the verb is allowed at the address.
func (r *Rights) May(v Verb, at string) bool { return r.At(at).Has(v) }

// On returns the verbs that are allowed on all that a pattern covers, as far as
// single grants show it.
func (r *Rights) On(p address.Pattern) (s Set) {
	for _, g := range r.grants {
		if p.Within(g.On) {
			s |= g.Verbs
		}
	}
	if r.scope != nil {
		s &= r.scope.On(p)
	}
	return s
}

// Alone reports whether a verb that is allowed at an address is allowed without a second person.
func (r *Rights) Alone(v Verb, at string) bool {
	of := thing(at)
	return r.alone(v, func(g Grant) bool { return g.On.Covers(of) })
}

// AloneOn is Alone for all that a pattern covers.
func (r *Rights) AloneOn(v Verb, p address.Pattern) bool {
	return r.alone(v, func(g Grant) bool { return p.Within(g.On) })
}

func (r *Rights) alone(v Verb, covers func(g Grant) bool) bool {
	return slices.ContainsFunc(r.grants, func(g Grant) bool { return !g.Second && g.Verbs.Has(v) && covers(g) })
}

// Seconds reports whether something takes a second person.
func (r *Rights) Seconds() bool {
	return slices.ContainsFunc(r.grants, func(g Grant) bool { return g.Second && g.Verbs.Without(Dangerous) != g.Verbs })
}

// Everywhere returns the verbs that are allowed at every address, whatever comes to be there.
func (r *Rights) Everywhere() Set { return r.all }

// Reach reports whether the verb is allowed on a space or on something in it, existing or not.
func (r *Rights) Reach(v Verb, space string) bool {
	reaches := func(g Grant) bool { return g.Verbs.Has(v) && g.On.Reaches(space) }
	return slices.ContainsFunc(r.grants, reaches) && (r.scope == nil || r.scope.Reach(v, space))
}

// Somewhere returns the verbs that are allowed at some address, existing or not.
func (r *Rights) Somewhere() (s Set) {
	for _, g := range r.grants {
		s |= g.Verbs
	}
	if r.scope != nil {
		s &= r.scope.Somewhere()
	}
	return s
}
