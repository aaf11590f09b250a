package declares

import (
	"cmp"
	"context"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// kind is how things of a kind are made, set and removed: another kind is another
// entry of allKinds.
type kind struct {
	address address.Kind
	place   string // of what is in no space: what stands for one in its address
	// check says why one cannot be created, or adds what that means; created are
	// the kinds of those that are created before it, by their addresses.
	check  func(at address.Address, c *form.DeclareChange, created map[string]string) error
	create func(ctx context.Context, who string, at address.Address, c *form.DeclareChange, settings setting.Change) error
	set    func(ctx context.Context, who string, at address.Address, settings setting.Change, preview bool) (*form.Preview, error)
	remove func(ctx context.Context, who string, at address.Address, preview bool) (*form.Preview, error)
}

func (d *Declares) allKinds() map[string]kind {
	return map[string]kind{
		// What is set on all nodes is always there: its address reads as that of a space.
		"nodes": {address: address.KindSpace,
			set: func(ctx context.Context, who string, _ address.Address, settings setting.Change, preview bool) (*form.Preview, error) {
				return d.cluster.Set(ctx, who, settings, preview)
			}},
		"space": {address: address.KindSpace,
			check: func(address.Address, *form.DeclareChange, map[string]string) error { return nil },
			create: func(ctx context.Context, who string, at address.Address, _ *form.DeclareChange, settings setting.Change) error {
				return d.manage.NewSpace(ctx, who, at.Space, settings)
			},
			set: func(ctx context.Context, who string, at address.Address, settings setting.Change, preview bool) (*form.Preview, error) {
				return d.manage.SetSpace(ctx, who, at.Space, settings, preview)
			},
			remove: func(ctx context.Context, who string, at address.Address, preview bool) (*form.Preview, error) {
				if !preview {
					return nil, d.manage.RemoveSpace(ctx, who, at.Space)
				}
				return &form.Preview{Effects: []string{"the space goes; channels of it that were removed before cannot be brought back"}}, nil
			}},
		"topic": d.channelKind(setting.Topic),
		"queue": d.channelKind(setting.Queue),
		"endpoint": {address: address.KindChannel, check: d.checkEndpoint, remove: d.outside.Remove,
			create: func(ctx context.Context, who string, at address.Address, _ *form.DeclareChange, settings setting.Change) error {
				_, err := d.outside.New(ctx, who, at, settings, nil)
				return err
			},
			set: func(ctx context.Context, who string, at address.Address, settings setting.Change, preview bool) (*form.Preview, error) {
				return d.outside.Set(ctx, who, at, settings, nil, preview)
			}},
		setting.AWatch: {address: address.KindChannel, check: d.checkOwned(d.watches.CheckNew), remove: d.watches.Remove, set: d.watches.Set,
			create: func(ctx context.Context, who string, at address.Address, _ *form.DeclareChange, settings setting.Change) error {
				_, err := d.watches.New(ctx, who, at, settings)
				return err
			}},
		setting.AChore: {address: address.KindChannel, check: d.checkOwned(d.chores.CheckNew), remove: d.chores.Remove, set: d.chores.Set,
			create: func(ctx context.Context, who string, at address.Address, _ *form.DeclareChange, settings setting.Change) error {
				_, err := d.chores.New(ctx, who, at, settings, false)
				return err
			}},
		setting.ARole: {address: address.KindChannel, place: catalog.RolesPlace, check: d.checkRight,
			create: func(ctx context.Context, who string, at address.Address, _ *form.DeclareChange, settings setting.Change) error {
				return d.rights.NewRole(ctx, who, at.Channel, settings)
			},
			set: func(ctx context.Context, who string, at address.Address, settings setting.Change, preview bool) (*form.Preview, error) {
				return d.rights.SetRole(ctx, who, at.Channel, settings, preview)
			},
			remove: func(ctx context.Context, who string, at address.Address, preview bool) (*form.Preview, error) {
				if preview {
					return &form.Preview{Effects: []string{"the role goes, if nobody has it"}}, nil
				}
				return nil, d.rights.RemoveRole(ctx, who, at.Channel)
			}},
		setting.AMask: {address: address.KindChannel, place: catalog.MasksPlace, check: d.checkRight,
			create: func(ctx context.Context, who string, at address.Address, _ *form.DeclareChange, settings setting.Change) error {
				_, err := d.rights.NewMask(ctx, who, at.Channel, settings, false)
				return err
			},
			set: func(ctx context.Context, who string, at address.Address, settings setting.Change, preview bool) (*form.Preview, error) {
				return d.rights.SetMask(ctx, who, at.Channel, settings, preview)
			},
			remove: func(ctx context.Context, who string, at address.Address, preview bool) (*form.Preview, error) {
				return d.rights.RemoveMask(ctx, who, at.Channel, preview)
			}},
		"group": d.readerKind(d.checkReader, d.groups.New, d.groups.Set),
		"route": d.readerKind(d.checkRoute, d.routes.New, d.routes.Set),
	}
}

// checkRight says why a role or a mask cannot be created, as far as its settings show it: who may
// have it done is seen when it is.
func (d *Declares) checkRight(at address.Address, c *form.DeclareChange, created map[string]string) error {
	settings, err := declare.Named(c.Kind).Change(c.After, nil)
	if err != nil {
		return err
	}
	return d.rights.CheckDeclared(c.Kind, at.Channel, settings, func(role string) bool { return created[catalog.RolesPlace+"/"+role] != "" })
}

// readerKind is that of groups or of routes.
func (d *Declares) readerKind(check func(address.Address, *form.DeclareChange, map[string]string) error,
	create func(context.Context, string, address.Address, address.Position, setting.Change) (*catalog.Group, error),
	set func(context.Context, string, address.Address, setting.Change, bool) (*form.Preview, error)) kind {
	return kind{address: address.KindGroup, check: check, set: set, remove: d.groups.Remove,
		create: func(ctx context.Context, who string, at address.Address, c *form.DeclareChange, settings setting.Change) error {
			from, err := address.ParsePosition(c.From)
			if err == nil {
				_, err = create(ctx, who, at, from, settings)
			}
			return err
		}}
}

func (d *Declares) channelKind(name string) kind {
	return kind{address: address.KindChannel,
		check: d.checkChannel,
		create: func(ctx context.Context, who string, at address.Address, _ *form.DeclareChange, settings setting.Change) error {
			_, err := d.manage.NewChannel(ctx, who, name, at, settings)
			return err
		},
		set: func(ctx context.Context, who string, at address.Address, settings setting.Change, preview bool) (*form.Preview, error) {
			return d.manage.SetChannel(ctx, who, at, settings, nil, preview)
		},
		remove: d.manage.RemoveChannel}
}

func (d *Declares) checkChannel(at address.Address, c *form.DeclareChange, created map[string]string) error {
	view := d.catalog.View()
	if view.Spaces[at.Space] == nil && created[at.Space] == "" {
		return problem.New(problem.NotFound, "there is no space %s, and none is declared", at.Space)
	}
	if view.Beside(c.Address) != "" {
		return d.free(at, c, created)
	}
	if other := view.Channels[c.Address]; other != nil {
		return problem.New(problem.Conflict, "%s is a %s, and declared as a %s", c.Address, other.Kind, c.Kind).Next("remove it first, or declare it under another name")
	}
	return d.manage.CheckNew(c.Kind, at, c.After)
}

// free says why what is no channel cannot have an address.
func (d *Declares) free(at address.Address, c *form.DeclareChange, created map[string]string) error {
	view := d.catalog.View()
	if view.Spaces[at.Space] == nil && created[at.Space] == "" && (c.Kind != setting.AWatch && c.Kind != setting.AChore || at.Space != address.Nodes) {
		return problem.New(problem.NotFound, "there is no space %s, and none is declared", at.Space)
	}
	other := view.Beside(c.Address)
	if ch := view.Channels[c.Address]; ch != nil {
		other = ch.Kind
	}
	if other != "" {
		return problem.New(problem.Conflict, "%s exists as another kind of thing, %s, and is declared as %s", c.Address, other, c.Kind).Next("remove it first, or declare it under another name")
	}
	return nil
}

// checkOwned says why a watch or a chore cannot be created.
func (d *Declares) checkOwned(check func(at address.Address, settings setting.Change, created map[string]string) error) func(address.Address, *form.DeclareChange, map[string]string) error {
	return func(at address.Address, c *form.DeclareChange, created map[string]string) error {
		if err := d.free(at, c, created); err != nil {
			return err
		}
		settings, err := declare.Named(c.Kind).Change(c.After, nil)
		if err != nil {
			return err
		}
		return check(at, settings, created)
	}
}

// checkEndpoint says why an endpoint cannot be created.
func (d *Declares) checkEndpoint(at address.Address, c *form.DeclareChange, created map[string]string) error {
	if err := d.free(at, c, created); err != nil {
		return err
	}
	settings, err := declare.Named(c.Kind).Change(c.After, nil)
	if err != nil {
		return err
	}
	c.Effects = append(c.Effects, "its secrets are no part of a declaration: ferry set "+c.Address+" -secret-from FILE")
	return d.outside.CheckNew(at, settings)
}

func (d *Declares) checkRoute(at address.Address, c *form.DeclareChange, created map[string]string) error {
	if err := d.checkReader(at, c, created); err != nil {
		return err
	}
	to, _ := c.After["to"].(string)
	if to == "" {
		return problem.New(problem.Invalid, "%s leads nowhere", at).Field("to").Allowed("the address of a topic, a queue or an endpoint")
	}
	if view := d.catalog.View(); view.Channels[to] == nil && view.Endpoints[to] == nil && created[to] == "" {
		return problem.New(problem.NotFound, "there is no channel or endpoint %s, and none is declared", to)
	}
	return nil
}

// checkReader says why a group or a route cannot be created, or where it starts.
func (d *Declares) checkReader(at address.Address, c *form.DeclareChange, created map[string]string) error {
	view := d.catalog.View()
	source, name := at.Source()
	channel := source.String()
	kind := created[channel]
	if ch := view.Channels[channel]; ch != nil {
		kind = ch.Kind
	}
	if g := readerOf(view, source); g != nil {
		kind = g.Kind()
	}
	if g := readerOf(view, at); g != nil {
		return problem.New(problem.Conflict, "%s is a %s, and declared as a %s", at, g.Kind(), c.Kind).Next("remove it first, or declare it under another name")
	}
	switch dead := address.ReadsDead(name); {
	case dead && (kind == "" || kind == setting.Topic):
		return problem.New(problem.NotFound, "there is no queue, group or route %s whose dead letters could be read, and none is declared", channel)
	case dead && c.Kind != setting.Route:
		return problem.New(problem.Invalid, "%s is a group: dead letters are read by routes alone", at)
	case dead:
		kind = setting.DeadLetters
	case kind == "" && c.Kind == setting.Route:
		return problem.New(problem.NotFound, "there is no topic or queue %s, and none is declared", channel)
	case kind != setting.Topic && c.Kind != setting.Route:
		return problem.New(problem.NotFound, "there is no topic %s, and none is declared", channel)
	}
	c.From = cmp.Or(c.From, setting.StartOf(c.Kind, kind))
	c.Effects = append(c.Effects, "it starts at "+c.From)
	return nil
}

// readerOf returns the group or the route of an address, nil when it is not there.
func readerOf(view *catalog.View, at address.Address) *catalog.Group {
	source, name := at.Source()
	if ch := view.Channels[source.String()]; ch != nil {
		return view.Groups[ch.ID][name]
	}
	return nil
}

// Correct sets a thing of a kind that can be declared.
func (d *Declares) Correct(ctx context.Context, who, kind string, at address.Address, settings setting.Change) error {
	_, err := d.kinds[kind].set(ctx, who, at, settings, false)
	return err
}
