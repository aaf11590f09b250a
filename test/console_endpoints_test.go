package test

import (
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"

	"steadyferry/cmd/ferryd/clinic"
	"steadyferry/test/harness"
)

// The console creates an endpoint, tries it, shows why it fails and what it refuses, and
// changes it.
func TestTheConsoleOfEndpoints(t *testing.T) {
	t.Parallel()
	n := harness.Start(t, toLoopback...)
	hook := clinic.New("northlight-clinics-know-this")
	server := httptest.NewServer(hook)
	defer server.Close()
	n.Topic("coldchain/recalls", 1)
	p := openConsole(t, n)
	p.open("/endpoints")
	p.says("Nothing is delivered to places outside yet.")
	p.accessible("no endpoints")
	p.click("New endpoint")
	p.fill("Name", "clinic-hook")
	p.fill("Address (https://…, postgresql://USER@HOST/DATABASE or ferry+https://HOST/SPACE/CHANNEL)", server.URL+"/")
	p.fill("Secret that signs deliveries (24 to 64 characters, or whsec_…)", "northlight-clinics-know-this")
	p.fill("Delay between attempts (10ms to 1d, as SHORTEST..LONGEST)", "100ms..300ms")
	p.says("ferry new endpoint coldchain/clinic-hook -url " + server.URL + "/ -secret-from FILE")
	p.accessible("a new endpoint")
	p.click("Create the endpoint")
	p.says("nothing was delivered yet")
	p.click("Try it now")
	p.says("200 OK")
	p.accessible("an endpoint that was tried")

	n.Must("new", "route", "coldchain/recalls@hook", "-to", "coldchain/clinic-hook", "-from", "first")
	hook.Switch(clinic.Down)
	for range 5 {
		n.Must("send", "coldchain/recalls", "-body", `{"clinic":"old-mill"}`)
	}
	p.says("failing for")
	p.says("the clinics' office is closed")
	p.says("What happened")
	p.accessible("an endpoint that fails")
	p.everywhere("coldchain/clinic-hook", "/endpoints/coldchain/clinic-hook", "/endpoints")
	p.open("/groups/coldchain/recalls/hook")
	p.says("endpoint failing")
	p.says("coldchain/clinic-hook")
	p.accessible("a route to an endpoint that fails")
	hook.Switch(clinic.Refuses)
	n.Must("send", "coldchain/recalls", "-body", `{"clinic":"hill-road"}`)
	p.open("/channels/coldchain/clinic-hook") // as it is linked by its address
	p.wait(`location.pathname === "/endpoints/coldchain/clinic-hook"`)
	p.says("not on our list any more")

	p.fill("At once (1 to 64)", "3")
	p.says("ferry set coldchain/clinic-hook -parallel 3")
	p.click("See what changes")
	p.accessible("an endpoint before it is changed")
	p.click("Change it")
	p.says("coldchain/clinic-hook is changed")
	assert.Contains(t, n.Must("show", "coldchain/clinic-hook"), "parallel     3")
	p.click("Remove the endpoint")
	p.says("route leads to coldchain/clinic-hook")
	p.click("Pause")
	p.says("paused: messages wait where they are")
}
