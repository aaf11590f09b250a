package endpoints

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/notice"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/outside"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// Of returns the record of an endpoint.
func (es *Endpoints) Of(ctx context.Context, a address.Address) (*catalog.Endpoint, error) {
	return change.Find(ctx, es.catalog, "endpoint", a, func(v *catalog.View) map[string]*catalog.Endpoint { return v.Endpoints }, "ferry new endpoint "+a.String()+" -url URL makes it")
}

// New makes an endpoint.
func (es *Endpoints) New(ctx context.Context, who string, a address.Address, settings setting.Change, given map[string]string) (*catalog.Endpoint, error) {
	if err := access.Check(ctx, access.Route, a.String()); err != nil {
		return nil, err
	}
	if err := address.CheckName(a.Channel); err != nil || a.Group != "" {
		return nil, problem.New(problem.Invalid, "%s is no address of an endpoint", a).Field("address").Allowed("SPACE/NAME")
	}
	space, err := es.parts.Space(a.Space)
	if err != nil {
		return nil, err
	}
	e := &catalog.Endpoint{Owned: catalog.Owned{ID: catalog.NewOwnedID(), SpaceID: sql.NullInt64{Int64: space.ID, Valid: true}, Space: a.Space, Name: a.Channel}}
	if err := es.fill(e, a, settings); err != nil {
		return nil, err
	}
	sealed, err := secrets(nil).with(given, e.Kind(), a.String())
	if err == nil {
		e.Secrets, err = es.seal(e.ID, sealed)
	}
	if err == nil && (len(given) > 0 || e.Kind() != setting.Ferry) {
		err = es.measure(ctx, e, sealed) // else when there is a token
	}
	if err != nil {
		return nil, err
	}
	err = es.catalog.NewEndpoint(ctx, e, &catalog.Entry{Who: who, Action: "new endpoint", Address: a.String(), After: shown(e, sealed)})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells what it is", a)
	}
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	es.Happened(a.String(), "created", "by "+who)
	return es.Of(ctx, a)
}

// fill sets what an endpoint is, with defaults for what is not said.
func (es *Endpoints) fill(e *catalog.Endpoint, a address.Address, settings setting.Change) error {
	var to setting.Endpoint
	setting.Endpoints.Apply(&to, settings)
	if to.URL == "" {
		return problem.New(problem.Invalid, "%s has no url", a).Field("url").Allowed("an address that begins with one of " + setting.Schemes)
	}
	setting.Endpoints.SetDefaults(&e.Endpoint, to.Kind())
	return es.apply(e, a, settings, to.Kind())
}

// CheckNew says why an endpoint with the settings could not be made.
func (es *Endpoints) CheckNew(a address.Address, settings setting.Change) error {
	return es.fill(&catalog.Endpoint{}, a, settings)
}

// apply makes a change of settings, and says what is wrong with it.
func (es *Endpoints) apply(e *catalog.Endpoint, a address.Address, settings setting.Change, kind string) error {
	if err := setting.Endpoints.Fits(settings, kind, a.String()); err != nil {
		return err
	}
	setting.Endpoints.Apply(&e.Endpoint, settings)
	u, err := url.Parse(e.URL)
	if err != nil {
		return err
	}
	if !slices.Contains(es.config.Schemes, u.Scheme) {
		return problem.New(problem.Invalid, "%s begins with %s, and this node sends to %s only", e.URL, u.Scheme, strings.Join(es.config.Schemes, ", ")).Field("url").Next("ferryd's -outside-schemes names what is allowed")
	}
	if e.Kind() == setting.InTable && (e.Table == "" || len(e.Columns) == 0) {
		return problem.New(problem.Invalid, "%s has no table, or no columns", a).Field("table").Next("give -table SCHEMA.TABLE and -column COLUMN=SOURCE for each column")
	}
	if e.Kind() == setting.Mail && (e.MailFrom == "" || len(e.MailTo) == 0) {
		return problem.New(problem.Invalid, "%s has no sender, or nobody who gets it", a).Field("mailTo").Next("give -mail-from ADDRESS and -mail-to ADDRESSES")
	}
	if e.Notice != "" {
		if _, err := notice.Compile(e.Notice); err != nil {
			return err
		}
	}
	for _, key := range e.KeyColumns {
		if e.Columns[key] == "" {
			return problem.New(problem.Invalid, "%s is a column that names a row, and gets nothing of a message", key).Field("keyColumns").Allowed(strings.Join(slices.Sorted(maps.Keys(e.Columns)), ", "))
		}
	}
	return nil
}

// shown is how the logbook shows an endpoint: of secrets it tells which there are.
func shown(e *catalog.Endpoint, s secrets) map[string]any {
	all := setting.Endpoints.Show(&e.Endpoint, e.Kind())
	all["secrets"] = s.names()
	return all
}

// SecretNames lists which secrets an endpoint has; locked tells that this node cannot
// read them.
func (es *Endpoints) SecretNames(e *catalog.Endpoint) (names []string, locked bool) {
	s, err := es.open(e)
	return s.names(), err != nil
}

// Set changes an endpoint, or with preview only says what that would do.
func (es *Endpoints) Set(ctx context.Context, who string, a address.Address, settings setting.Change, given map[string]string, preview bool) (*form.Preview, error) {
	if err := settings.Check(ctx, access.Route, a.String()); err != nil {
		return nil, err
	}
	if len(given) > 0 {
		if err := access.Check(ctx, access.Route, a.String()); err != nil {
			return nil, err
		}
	}
	var p *form.Preview
	err := change.UntilFresh(ctx, es.catalog, a.String(), func() (err error) {
		p, err = es.set(ctx, who, a, settings, given, preview)
		return err
	})
	if err == nil && !preview && len(p.After) > 0 {
		es.Happened(a.String(), "changed", "by "+who+": "+strings.Join(slices.Sorted(maps.Keys(p.After)), ", "))
	}
	return p, err
}

func (es *Endpoints) set(ctx context.Context, who string, a address.Address, settings setting.Change, given map[string]string, preview bool) (*form.Preview, error) {
	old, err := es.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	e := *old
	if err := es.apply(&e, a, settings, old.Kind()); err != nil {
		return nil, err
	}
	if err := setting.Endpoints.Refuse(&old.Endpoint, &e.Endpoint, old.Kind(), a.String()); err != nil {
		return nil, err
	}
	p, err := change.Preview(ctx, es.catalog, a.String(), setting.Endpoints, &old.Endpoint, &e.Endpoint, old.Kind())
	if err != nil {
		return nil, err
	}
	if len(given) > 0 {
		was, err := es.open(old)
		if err != nil {
			return nil, problem.New(problem.Unavailable, "the secrets of %s cannot be changed: %v", a, err)
		}
		is, err := was.with(given, e.Kind(), a.String())
		if err != nil {
			return nil, err
		}
		if !maps.Equal(was, is) {
			if e.Secrets, err = es.seal(e.ID, is); err != nil {
				return nil, err
			}
			p.Before["secrets"], p.After["secrets"] = was.names(), is.names()
			p.Effects = append(p.Effects, "secrets: "+strings.Join(slices.Sorted(maps.Keys(given)), ", ")+"; the next delivery uses what is set now")
			if is[outside.OldSigning] != "" {
				p.Effects = append(p.Effects, "deliveries are signed by the new and by the old secret, until the old one is taken away: ferry set "+a.String()+" -forget "+outside.OldSigning)
			}
		}
	}
	if preview || len(p.After) == 0 {
		return p, nil
	}
	if s, err := es.open(&e); err == nil && (p.After["url"] != nil || p.After["secrets"] != nil) {
		if err := es.measure(ctx, &e, s); err != nil {
			return nil, err
		}
	}
	err = es.catalog.SetEndpoint(ctx, &e, &catalog.Entry{Who: who, Action: "set endpoint", Address: a.String(), Before: p.Before, After: p.After})
	return p, err
}

// Remove deletes an endpoint to which no route leads, or with preview only says what
// that would do.
func (es *Endpoints) Remove(ctx context.Context, who string, a address.Address, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Route, a.String()); err != nil {
		return nil, err
	}
	e, err := es.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	if err := change.NoRoutesTo(ctx, es.catalog, e.ID, a); err != nil {
		return nil, err
	}
	p := &form.Preview{Address: a.String(), Effects: []string{fmt.Sprintf("the %s endpoint at %s goes, with its secrets; that cannot be taken back", e.Kind(), e.URL)}}
	if preview {
		return p, nil
	}
	s, _ := es.open(e) // without the key it goes all the same
	err = es.catalog.RemoveEndpoint(ctx, e.ID, &catalog.Entry{Who: who, Action: "remove endpoint", Address: a.String(), Before: shown(e, s)})
	return p, part.Explain(err, a.String())
}
