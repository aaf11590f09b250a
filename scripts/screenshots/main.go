// Command screenshots takes the pictures of docs/screenshots from a running
// demo: pages in headless Chromium, commands in a terminal window under Xvfb.
//
//	go run ./scripts/screenshots -server http://127.0.0.1:14720 -token TOKEN -out docs/screenshots -kill .demo-cluster/node-b/ferryd.lock
//
// With -kill it ends the process whose number is in the file, and takes the
// pictures of a cluster with a node away.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"steadyferry/client"
	"steadyferry/test/browser"
)

// page is a picture of the console.
type page struct {
	name, path string
	dark       bool
	phone      bool
	away       bool          // with a node away
	do         string        // JavaScript that is run before the picture
	settle     time.Duration // that it takes, beyond a second
}

var pages = []page{
	{name: "now", path: "/now"},
	{name: "chart", path: "/chart?space=coldchain", settle: 3 * time.Second},
	{name: "incident", path: "/incidents/1", settle: 2 * time.Second},
	{name: "watch-try-dark", path: "/watches/coldchain/dead-inspections", dark: true, do: `document.querySelector("form").lastElementChild.scrollIntoView()`, settle: 3 * time.Second},
	{name: "chore", path: "/timetable/coldchain/return-unanswered", settle: 2 * time.Second},
	{name: "topic", path: "/channels/coldchain/readings"},
	{name: "group-seek", path: "/groups/coldchain/readings/dashboards", do: seek, settle: 5 * time.Second},
	{name: "route-try", path: "/groups/coldchain/readings/warm", do: setRoute, settle: 4 * time.Second},
	{name: "endpoint", path: "/endpoints/coldchain/clinic-hook"},
	{name: "access", path: "/access?who=on-call-viewer&verb=see-content&at=coldchain/inspections"},
	{name: "dead", path: "/dead/coldchain/inspections"},
	{name: "dead-mend-dark", path: "/dead/coldchain/inspections", dark: true, do: mend},
	{name: "trace", path: "/dead/coldchain/inspections", do: mendAndTrace, settle: 6 * time.Second},
	{name: "nodes", path: "/nodes", away: true},
}

// command is a picture of a terminal.
type command struct {
	name, line string
	away       bool
}

// seek asks what a seek would do.
const seek = `(async () => {
	for (const text of ["Seek", "Show what it does"])
		for (let i = 0; i < 30; i++) {
			const button = [...document.querySelectorAll("button")].find((b) => b.textContent.trim() === text);
			button?.click();
			if (button) break;
			await new Promise((resolve) => setTimeout(resolve, 100));
		}
})()`

// setRoute opens the dialog of a route, in which another edit is tried.
const setRoute = `
	[...document.querySelectorAll("button")].find((b) => b.textContent.trim() === "Set it").click();
	setTimeout(() => {
		const t = document.querySelector("textarea");
		Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(t, 'set header.source="warm-boxes"\ncompute /fahrenheit=body.celsius * 1.8 + 32.0');
		t.dispatchEvent(new Event("input", { bubbles: true }));
	}, 500);`

// mend opens the dialog with an edit of the first cause.
const mend = `
	[...document.querySelectorAll("button")].find((b) => b.textContent === "Mend and return").click();
	setTimeout(() => {
		const t = document.querySelector("textarea");
		Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(t, 'compute /celsius=(double(body.celsius.replace(" F", "")) - 32.0) / 1.8');
		t.dispatchEvent(new Event("input", { bubbles: true }));
	}, 300);`

// mendAndTrace mends and returns one message, and opens its story once it is
// done.
const mendAndTrace = `(async () => {
	const queue = "/api/v1/channels/coldchain/inspections";
	const page = await (await fetch(queue + "/items?state=dead&limit=1&where=" + encodeURIComponent('reason == "celsius-not-a-number"'))).json();
	const m = page.items[0];
	await fetch(queue + "/actions", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ action: "edit", return: true, messages: [m.address],
		why: "Fahrenheit", edits: [{ op: "compute", at: "/celsius", expression: '(double(body.celsius.replace(" F", "")) - 32.0) / 1.8' }] }) });
	setTimeout(() => { location.href = "/trace/coldchain/inspections/" + m.partition + ":" + m.offset; }, 2000);
})()`

// declared writes what is there to files, changes one, applies it, and changes
// something by hand: the page of drift shows that.
const declared = `cd $(mktemp -d); ferry declare -to northlight/; sed -i "s/retain: 3d /retain: 2d /; s/^queues:/queues:\n  alarms: {lease: 20s}/" northlight/coldchain.yaml; ferry diff northlight/; ferry apply northlight/ -yes -revision 7f3a | tail -1; ferry set coldchain/readings -retain 1d -yes; ferry diff -drift`

var commands = []command{
	{name: "ferry-dead", line: "ferry dead coldchain/inspections; ferry dead coldchain/inspections -limit 1 -where 'reason == \"celsius-not-a-number\"' -edit 'compute /celsius=(double(body.celsius.replace(\" F\", \"\")) - 32.0) / 1.8' -return -rate 50/s; ferry show coldchain/inspections | head -14"},
	{name: "ferry-status", line: "ferry status; echo; ferry timetable coldchain"},
	{name: "ferry-lag", line: "timeout 4 ferry lag coldchain/readings -every 1s"},
	{name: "ferry-diff", line: declared},
	{name: "ferry-nodes", line: "ferry nodes; ferry show coldchain/readings | tail -8; ferry nodes changes -limit 4; ferry nodes what-if -without node-a,node-b | tail -8", away: true},
}

func main() {
	server := flag.String("server", "http://127.0.0.1:14720", "`address` of the demo")
	token := flag.String("token", os.Getenv("FERRY_TOKEN"), "`token` to get in with")
	out := flag.String("out", "docs/screenshots", "`directory` for the pictures")
	only := flag.String("only", "", "take only pictures whose names contain this `text`")
	kill := flag.String("kill", "", "`file` with the process of a node to end for the pictures with one away")
	flag.Parse()
	if err := run(*server, *token, *out, *only, *kill); err != nil {
		log.Fatal(err)
	}
}

func run(server, token, out, only, kill string) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	// A command may go to a directory of its own.
	out, err := filepath.Abs(out)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	api, err := client.New(server, token)
	if err != nil {
		return err
	}
	b, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer b.Close()
	var link client.Link
	if err := api.Call(ctx, http.MethodPost, "/links", nil, nil, &link); err != nil {
		return err
	}
	if err := b.Open(server + link.Path); err != nil {
		return err
	}
	time.Sleep(3 * time.Second) // some seconds of rates for the small charts
	take := func(away bool) error {
		for _, c := range commands {
			if c.away != away || !strings.Contains(c.name, only) {
				continue
			}
			if err := terminal(ctx, c.line, server, token, filepath.Join(out, c.name+".png")); err != nil {
				return fmt.Errorf("%s: %w", c.name, err)
			}
		}
		for _, p := range pages {
			if p.away != away || !strings.Contains(p.name, only) {
				continue
			}
			if err := shoot(b, server, p, filepath.Join(out, p.name+".png")); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
		}
		return nil
	}
	if err := take(false); err != nil || kill == "" {
		return err
	}
	if err := end(kill); err != nil {
		return err
	}
	return take(true)
}

// end kills the process whose number is in a file.
func end(file string) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil {
		return err
	}
	return syscall.Kill(pid, syscall.SIGKILL)
}

func shoot(b *browser.Browser, server string, p page, file string) error {
	width, height := 1280, 800
	if p.phone {
		width, height = 390, 844
	}
	theme, _ := json.Marshal(map[bool]string{true: "dark", false: "light"}[p.dark])
	if err := b.Size(width, height); err != nil {
		return err
	}
	if err := b.Run(`localStorage.setItem("theme", ` + string(theme) + `)`); err != nil {
		return err
	}
	if err := b.Open(server + p.path); err != nil {
		return err
	}
	time.Sleep(6 * time.Second)
	if p.do != "" {
		if err := b.Run(p.do); err != nil {
			return err
		}
		time.Sleep(p.settle + time.Second)
	}
	png, err := b.Picture()
	if err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}

// terminal runs a line in a terminal window of its own display.
func terminal(ctx context.Context, line, server, token, file string) error {
	bin, err := filepath.Abs("bin")
	if err != nil {
		return err
	}
	done := file + ".done"
	defer os.Remove(done)
	show := strings.ReplaceAll(line, "'", `'\''`)
	script := fmt.Sprintf(`printf '\033[1m$ %%s\033[0m\n' '%s'; %s; touch %s; sleep 60`, show, line, done)
	cmd := exec.CommandContext(ctx, "xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "sh", "-c",
		`xterm -geometry 158x46+0+0 -b 8 -fa "DejaVu Sans Mono" -fs 10 -bg "#fdfbf5" -fg "#1d2a30" -e "$INNER" & while [ ! -e "$DONE" ]; do sleep 0.2; done; sleep 1; import -window root "$PICTURE"; kill $! || true`)
	inner := filepath.Join(os.TempDir(), "ferry-terminal.sh")
	if err := os.WriteFile(inner, []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
		return err
	}
	defer os.Remove(inner)
	cmd.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "FERRY_SERVER="+server, "FERRY_TOKEN="+token, "INNER="+inner, "DONE="+done, "PICTURE="+file, "TERM=xterm-256color")
	if text, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, text)
	}
	return nil
}
