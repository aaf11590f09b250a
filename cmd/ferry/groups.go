package main

import (
	"context"
	"fmt"
	"net/http"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/words"
)

func (c *call) newGroup(ctx context.Context, from string, given givenSettings) error {
	a, err := c.OneGroup()
	if err != nil {
		return err
	}
	if _, err := address.ParsePosition(from); err != nil {
		return term.Usage(err)
	}
	g, err := term.Ask[client.Group](c.Call, http.MethodPost, client.ChannelPath(a)+"/groups", nil, client.NewGroup{Group: a.Group, From: from, Settings: client.Settings(given)})
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(g)
	}
	fmt.Fprintf(c.Out, "made group %s at %s: %s to read\nnext: ferry read %s\n", g.Address, from, words.Many(g.Lag, "message"), g.Address)
	return nil
}

func (c *call) setGroup(ctx context.Context, a address.Address, given givenSettings) error {
	g, err := term.Ask[client.Group](c.Call, http.MethodPatch, client.GroupPath(a), nil, given)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(g)
	}
	fmt.Fprintf(c.Out, "set %s\n", a)
	return nil
}
