package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"

	"steadyferry/internal/core/form"
)

// Declare forms are what is declared, and what that changes.
type (
	Thing         = form.Thing
	Declare       = form.Declare
	DeclareChange = form.DeclareChange
	DeclarePlan   = form.DeclarePlan
	Declaration   = form.Declaration
	Drift         = form.Drift
)

// PlanDeclaration says what a declaration would change.
func (c *Client) PlanDeclaration(ctx context.Context, name string, d Declare) (*DeclarePlan, error) {
	var p DeclarePlan
	err := c.Call(ctx, http.MethodPost, "/declarations/"+url.PathEscape(name), url.Values{"preview": {"true"}}, d, &p)
	return &p, err
}

// ApplyDeclaration makes of what is there what is declared. told hears of each
// change when it is made. With a plan and an error it ended before its end: the
// plan says what was done and what is left.
func (c *Client) ApplyDeclaration(ctx context.Context, name string, d Declare, told func(DeclareChange)) (*DeclarePlan, error) {
	body, err := json.Marshal(d)
	if err != nil {
		return nil, err
	}
	response, err := c.Do(ctx, Request{Method: http.MethodPost, Path: "/declarations/" + url.PathEscape(name), Body: body, Header: http.Header{"Content-Type": {"application/json"}}, once: true})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	lines := json.NewDecoder(response.Body)
	for {
		var e form.DeclareEvent
		if err := lines.Decode(&e); err != nil {
			return nil, fmt.Errorf("the apply broke off, and what it had begun may be done or not: apply it again, which does what is left: %w", err)
		}
		switch {
		case e.Change != nil:
			told(*e.Change)
		case e.Plan != nil && e.Problem != nil:
			return e.Plan, e.Problem
		case e.Plan != nil:
			return e.Plan, nil
		}
	}
}
