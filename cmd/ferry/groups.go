package main

import (
	"cmp"
	"context"
	"fmt"
	"net/http"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/words"
)

func (c *call) newGroup(ctx context.Context, kind, from string, given term.Given) error {
	a, err := c.OneGroup()
	if err != nil {
		return err
	}
	g, err := term.Ask[client.Group](c.Call, http.MethodPost, client.ChannelPath(a)+"/groups", nil, client.NewGroup{Group: a.Group, Kind: kind, From: from, Settings: client.Settings(given)})
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(g)
	}
	if kind == "route" {
		fmt.Fprintf(c.Out, "created route %s to %s, starting at %s: %s to look at\nnext: ferry show %s -every 1s\n", g.Address, g.To, cmp.Or(from, "end"), words.Many(g.Lag, "message"), g.Address)
		return nil
	}
	from = cmp.Or(from, "first")
	fmt.Fprintf(c.Out, "created group %s starting at %s: %s to read\nnext: ferry read %s\n", g.Address, from, words.Many(g.Lag, "message"), g.Address)
	return nil
}
