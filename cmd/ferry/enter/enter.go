// Package enter is the verb by which people sign in on the command line, with a browser.
package enter

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"time"

	"golang.org/x/oauth2"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
)

// call is one run of a verb of this package.
type call struct{ *term.Call }

type verb = term.VerbOf[*call]

func own(c *term.Call) *call { return &call{c} }

// SignIn is the verb.
var SignIn = signInVerb.With(own)

// patience is how long it waits for somebody to let it in.
const patience = 15 * time.Minute

var signInVerb = verb{
	Name: "sign-in", Summary: "Sign in with a browser, on this machine or another one",
	Details: "It prints an address and a code. Who opens the address, is signed in there and lets it in, is who the commands of this machine are from then on, " +
		"for some hours, with the servers that are named. FERRY_TOKEN and -token come first.",
	Define: func(fs *flag.FlagSet) func(*call) error {
		out := fs.Bool("out", false, "sign out: end the session, and forget it here")
		return func(c *call) error {
			switch {
			case len(c.Args) > 0:
				return term.WrongUsage("no address is expected")
			case *out:
				return c.signOut()
			}
			return c.signIn()
		}
	},
}

func (c *call) signIn() error {
	machine, err := os.Hostname()
	if err != nil {
		machine = "a machine without a name"
	}
	server := c.Servers[0]
	device := oauth2.Config{ClientID: "ferry", Endpoint: oauth2.Endpoint{DeviceAuthURL: server + "/api/v1/sign-in/device", TokenURL: server + "/api/v1/sign-in/device/token", AuthStyle: oauth2.AuthStyleInParams}}
	ctx, cancel := context.WithTimeout(context.WithValue(c.Ctx, oauth2.HTTPClient, c.API.HTTP()), patience)
	defer cancel()
	waits, err := device.DeviceAuth(ctx, oauth2.SetAuthURLParam("name", "ferry on "+machine))
	if err != nil {
		return explain(server, err)
	}
	fmt.Fprintf(c.Out, "open       %s\nthe code   %s\n\nwaiting until somebody lets it in, for %s at most\n", waits.VerificationURIComplete, waits.UserCode, time.Until(waits.Expiry).Round(time.Minute))
	token, err := device.DeviceAccessToken(ctx, waits)
	if err != nil {
		return explain(server, err)
	}
	api := c.API.As(token.AccessToken)
	var who client.SignIn
	if err := api.Call(ctx, http.MethodGet, "/session", nil, nil, &who); err != nil {
		return err
	}
	path, err := term.KeepSession(c.Servers, token.AccessToken)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Out, "signed in as %s; the session is kept in %s, ends unused, and at the latest at %s\n", who.Name, path, token.Expiry.Local().Format("15:04"))
	return nil
}

// explain says why nobody was let in.
func explain(server string, err error) error {
	var said *oauth2.RetrieveError
	if !errors.As(err, &said) {
		return fmt.Errorf("%w: %s: %w", client.ErrUnreachable, server, err)
	}
	switch said.ErrorCode {
	case "access_denied":
		return errors.New("it was not let in")
	case "expired_token":
		return errors.New("nobody has let it in in time: ferry sign-in begins again")
	}
	return fmt.Errorf("%s answered %s: %s", server, said.Response.Status, said.Body)
}

func (c *call) signOut() error {
	kept, err := term.ForgetSession(c.Servers)
	if err != nil {
		return err
	}
	if kept == "" {
		fmt.Fprintln(c.Out, "nobody is signed in here")
		return nil
	}
	api := c.API.As(kept)
	ctx, cancel := c.Short()
	defer cancel()
	var p *client.Problem
	if err := api.Call(ctx, http.MethodDelete, "/session", nil, nil, nil); err != nil && !(errors.As(err, &p) && p.Status == http.StatusUnauthorized) {
		return fmt.Errorf("it is forgotten here, but the session may go on until it ends unused: %w", err)
	}
	fmt.Fprintln(c.Out, "signed out")
	return nil
}
