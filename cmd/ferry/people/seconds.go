package people

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
)

// secondTable is how what takes a second person is listed.
var secondTable = term.TableOf[client.Second]{Headings: []string{"number", "asked by", "what", "state", "until", "decided by", "why"}, Row: func(s client.Second) []string {
	state := s.State
	if s.Mine {
		state += " (for you)"
	}
	return []string{fmt.Sprint(s.ID), s.Who, s.Says, state, s.Until.Local().Format(time.DateTime), term.First(s.DecidedBy, "–"), term.First(s.Outcome, "–")}
}}

func secondPath(number string) string { return "/seconds/" + url.PathEscape(number) }

// confirm shows what something that waits would do, or is its second person.
func (c *call) confirm(f *accessFlags) error {
	if f.yes {
		s, err := term.Ask[client.Second](c.Call, http.MethodPost, secondPath(c.Args[0])+"/confirm", nil, nil)
		if err != nil {
			return err
		}
		if c.JSON {
			return c.PrintJSON(s)
		}
		if s.Outcome != "" {
			return errors.New("it was confirmed, and not done: " + s.Outcome)
		}
		fmt.Fprintf(c.Out, "%s, for %s\n", s.State, s.Who)
		return nil
	}
	s, err := term.Ask[client.Second](c.Call, http.MethodGet, secondPath(c.Args[0]), nil, nil)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(s)
	}
	c.Pairs([][2]string{{"asked by", s.Who}, {"what", s.Says}, {"takes", s.Verb + " on " + s.Address}, {"state", s.State}, {"until", s.Until.Local().Format(time.DateTime)}})
	if len(s.Asked) > 0 {
		fmt.Fprintf(c.Out, "%s\n", s.Asked)
	}
	if s.State != "waiting" {
		return nil
	}
	if s.Preview != nil {
		return c.PrintPreview(*s.Preview)
	}
	fmt.Fprintln(c.Out, "nothing is changed yet: add -yes to do it")
	return nil
}

func (c *call) decline(*accessFlags) error {
	ctx, cancel := c.Short()
	defer cancel()
	if err := c.API.Call(ctx, http.MethodPost, secondPath(c.Args[0])+"/decline", nil, nil, nil); err != nil {
		return err
	}
	fmt.Fprintln(c.Out, "declined; nothing was done")
	return nil
}
