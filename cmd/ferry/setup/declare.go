// Package setup is the verbs that keep a set-up in files: declare, check, diff, apply.
package setup

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/words"
)

// call is one run of a verb of this package.
type call struct{ *term.Call }

type verb = term.VerbOf[*call]

func own(c *term.Call) *call { return &call{c} }

// The verbs.
var (
	Declare = declareVerb.With(own)
	Check   = checkVerb.With(own)
	Diff    = diffVerb.With(own)
	Apply   = applyVerb.With(own)
)

const declareDetails = "A declaration is a directory with a YAML file for each space, which says what shall be: spaces, topics, queues, groups, routes and what is set on all nodes.\n\n"

var declareVerb = verb{
	Name: "declare", Args: "[PATTERN]", Summary: "Write what is there as files that declare it",
	Details: declareDetails + "Editors complete and check the files with the JSON Schema that is written beside them. Without a pattern everything is written; patterns are such as coldchain, coldchain/in*, coldchain/*@*.\n\n" +
		"    ferry declare -to northlight/\n    ferry declare coldchain -to northlight/ -name northlight -yes\n    ferry declare -as asyncapi -to coldchain.json",
	Define: func(fs *flag.FlagSet) func(*call) error {
		to := fs.String("to", "", "`DIRECTORY` for the files, created if it is missing; of asyncapi, a file; without it they are printed")
		name := fs.String("name", "", "`NAME` of the declaration; without it, that of the directory")
		as := fs.String("as", "files", "`FORMAT`: files, or asyncapi for an AsyncAPI 3.0 document")
		all := fs.Bool("all", false, "write settings that are as without them too")
		yes := fs.Bool("yes", false, "write over files that say something else")
		return func(c *call) error {
			pattern := "*"
			if len(c.Args) > 0 {
				pattern = c.Args[0]
			}
			if *as != "files" && *as != "asyncapi" {
				return term.WrongUsage("-as is %q; allowed: files, asyncapi", *as)
			}
			things, err := c.things(pattern)
			if err != nil {
				return err
			}
			if len(things) == 0 {
				return &client.Problem{Detail: "nothing matches " + pattern, Next: "ferry list shows what there is"}
			}
			if *as == "asyncapi" {
				return c.writeAsyncAPI(*to, things)
			}
			return c.writeFiles(*to, term.First(*name, nameOf(*to)), things, *all, *yes)
		}
	},
}

// nameOf makes the name of a declaration of that of its directory.
func nameOf(dir string) string {
	abs, err := filepath.Abs(dir)
	if err != nil || dir == "" {
		return "declaration"
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '.', r == '_', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, filepath.Base(abs)), "-._")
	return term.First(name, "declaration")
}

// things are what can be declared, as it is.
func (c *call) things(pattern string) ([]declare.Thing, error) {
	p, err := term.AskWithin[client.Page[client.Thing]](c.Call, time.Minute, http.MethodGet, "/things", url.Values{"pattern": {pattern}}, nil)
	if err != nil {
		return nil, err
	}
	things := make([]declare.Thing, len(p.Items))
	for i, t := range p.Items {
		k := declare.Named(t.Kind)
		if k == nil {
			return nil, fmt.Errorf("%s is a %s, which this client does not know: take the client of the service's version", t.Address, t.Kind)
		}
		settings, err := k.Normal(t.Settings)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", t.Address, err)
		}
		things[i] = declare.Thing{Kind: t.Kind, Address: t.Address, Settings: settings}
	}
	return things, nil
}

func (c *call) writeFiles(dir, name string, things []declare.Thing, all, over bool) error {
	files := declare.Write(name, things, all)
	if c.JSON {
		for _, t := range things {
			if err := c.PrintJSON(client.Thing{Kind: t.Kind, Address: t.Address, Settings: t.Settings}); err != nil {
				return err
			}
		}
		return nil
	}
	if dir == "" {
		for i, file := range slices.Sorted(maps.Keys(files)) {
			if i > 0 {
				fmt.Fprintln(c.Out)
			}
			fmt.Fprintf(c.Out, "# %s\n%s", file, files[file])
		}
		return nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if !over {
		for _, file := range slices.Sorted(maps.Keys(files)) {
			path := filepath.Join(dir, file)
			if b, err := os.ReadFile(path); err == nil && string(b) != files[file] {
				return fmt.Errorf("%s is there and says something else; nothing was written: ferry diff %s shows what, and -yes writes over it", path, dir)
			}
		}
	}
	files[declare.SchemaFile] = string(declare.Schema())
	for _, file := range slices.Sorted(maps.Keys(files)) {
		path := filepath.Join(dir, file)
		if err := errors.Join(os.WriteFile(path+".part", []byte(files[file]), 0o644), os.Rename(path+".part", path)); err != nil {
			return err
		}
	}
	fmt.Fprintf(c.Out, "%s in %s, as declaration %s\nnext: ferry diff %s\n", words.Many(len(things), "thing is", "things are"), dir, name, dir)
	return nil
}

func (c *call) writeAsyncAPI(file string, things []declare.Thing) error {
	b, err := declare.AsyncAPI(things, c.API.Server())
	if err != nil || file == "" {
		fmt.Fprintf(c.Out, "%s", b)
		return err
	}
	return os.WriteFile(file, b, 0o644)
}

// directory is the files of a declaration in a directory.
type directory string

func (d directory) List() ([]string, error) {
	entries, err := os.ReadDir(string(d))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no directory %s; ferry declare -to %s writes one", string(d), string(d))
	}
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		if ext := filepath.Ext(e.Name()); !e.IsDir() && (ext == ".yaml" || ext == ".yml") && !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("%s has no files that end in .yaml; ferry declare -to %s writes some", string(d), string(d))
	}
	return names, nil
}

// maxFile is how large a file of a declaration may be.
const maxFile = 16 << 20

func (d directory) Read(name string) ([]byte, error) {
	path := filepath.Join(string(d), name)
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxFile {
		return nil, fmt.Errorf("it has %d bytes; limit %d", info.Size(), maxFile)
	}
	return os.ReadFile(path)
}

// readDeclaration reads a declaration, and prints all that is wrong with it.
func (c *call) readDeclaration() (*declare.Declaration, error) {
	if len(c.Args) != 1 {
		return nil, term.WrongUsage("one directory is expected, and there are %d", len(c.Args))
	}
	d, issues, err := declare.Read(directory(c.Args[0]), os.LookupEnv)
	if err != nil {
		return nil, term.Usage(err)
	}
	for _, i := range issues {
		if i.File != "" {
			i.File = filepath.Join(c.Args[0], i.File)
		}
		if c.JSON {
			if err := c.PrintJSON(i); err != nil {
				return nil, err
			}
			continue
		}
		fmt.Fprintln(c.Err, i.Error())
	}
	if len(issues) > 0 {
		return nil, fmt.Errorf("%s wrong in %s", words.Many(len(issues), "thing is", "things are"), c.Args[0])
	}
	return d, nil
}

var checkVerb = verb{
	Name: "check", Args: "DIRECTORY", Summary: "Check files that declare something, without a service",
	Details: declareDetails + "Each thing that is wrong is said with its file, line and column, and what is allowed; the status is 1 then.\n\n    ferry check northlight/",
	Define: func(*flag.FlagSet) func(*call) error {
		return func(c *call) error {
			d, err := c.readDeclaration()
			if err == nil && !c.JSON {
				fmt.Fprintf(c.Out, "declaration %s is right: %s\n", d.Name, words.Many(len(d.Things), "thing"))
			}
			return err
		}
	},
}

// declared is what the service is asked about a declaration.
func declared(d *declare.Declaration) client.Declare {
	out := client.Declare{Things: make([]client.Thing, len(d.Things))}
	for i, t := range d.Things {
		out.Things[i] = client.Thing{Kind: t.Kind, Address: t.Address, Settings: t.Settings, From: t.From}
	}
	return out
}

// differs is the status of ferry diff when there is a difference.
const differs = 3

var diffVerb = verb{
	Name: "diff", Args: "DIRECTORY | -drift", Summary: "Show what a declaration would change, or what was changed by hand since",
	Details: declareDetails + "The status is 0 when nothing differs, and 3 when something does. -drift needs no files: it shows which settings are another way than the declaration that was applied last has them.\n\n    ferry diff northlight/\n    ferry diff northlight/ -remove\n    ferry diff -drift",
	Define: func(fs *flag.FlagSet) func(*call) error {
		drift := fs.Bool("drift", false, "show what was changed by hand since it was declared")
		remove := fs.Bool("remove", false, "remove what the declared spaces have that is not declared")
		return func(c *call) error {
			if *drift {
				return c.drift()
			}
			d, err := c.readDeclaration()
			if err != nil {
				return err
			}
			in := declared(d)
			in.Remove = *remove
			p, err := c.plan(d.Name, in)
			if err != nil {
				return err
			}
			if err := c.printPlan(p); err != nil {
				return err
			}
			if len(p.Changes) > 0 {
				return term.ExitWith(differs)
			}
			return nil
		}
	},
}

const applyTime = 10 * time.Minute

func (c *call) plan(name string, in client.Declare) (*client.DeclarePlan, error) {
	ctx, cancel := c.Within(applyTime)
	defer cancel()
	return c.API.PlanDeclaration(ctx, name, in)
}

var signs = map[string]string{declare.Create: "+", declare.Set: "~", declare.Remove: "-", declare.TakeOver: "="}

func (c *call) printPlan(p *client.DeclarePlan) error {
	for _, change := range p.Changes {
		if c.JSON {
			if err := c.PrintJSON(change); err != nil {
				return err
			}
			continue
		}
		c.printChange(change)
	}
	if c.JSON {
		return nil
	}
	if len(p.Changes) == 0 {
		fmt.Fprintf(c.Out, "nothing differs from declaration %s\n", p.Declaration)
		return nil
	}
	count := map[string]int{}
	for _, change := range p.Changes {
		count[change.Op]++
	}
	fmt.Fprintf(c.Out, "\n%d to create, %d to set, %d to remove", count[declare.Create], count[declare.Set], count[declare.Remove])
	if n := count[declare.TakeOver]; n > 0 {
		fmt.Fprintf(c.Out, ", %d to take over from another declaration", n)
	}
	fmt.Fprintln(c.Out)
	return nil
}

func (c *call) printChange(change client.DeclareChange) {
	fmt.Fprintf(c.Out, "%s %s %s\n", signs[change.Op], change.Kind, change.Address)
	if change.Op != declare.Remove {
		before, after := texts(change.Kind, change.Before), texts(change.Kind, change.After)
		for _, name := range slices.Sorted(maps.Keys(after)) {
			if change.Op == declare.Create {
				fmt.Fprintf(c.Out, "    %s: %s\n", name, after[name])
			} else {
				fmt.Fprintf(c.Out, "    %s: %s -> %s\n", name, before[name], after[name])
			}
		}
	}
	for _, e := range change.Effects {
		fmt.Fprintf(c.Out, "    - %s\n", e)
	}
	if change.Problem != "" {
		fmt.Fprintf(c.Out, "    %s\n", c.MarkAs("failed", change.Problem))
	}
}

// texts are settings as JSON has them, as a file has them.
func texts(kind string, values map[string]any) map[string]string {
	k := declare.Named(kind)
	out := map[string]string{}
	for name, value := range values {
		out[name] = fmt.Sprint(value) // of a service that is newer
		if value == nil {
			out[name] = "none"
		} else if k == nil {
			continue
		} else if normal, err := k.Normal(map[string]any{name: value}); err == nil {
			out[name] = k.Texts(normal)[name]
		}
	}
	return out
}

var applyVerb = verb{
	Name: "apply", Args: "DIRECTORY", Summary: "Make of what is there what a declaration says",
	Details: declareDetails + "Without -yes it only shows what would change, as ferry diff does. It does the changes in an order that works, each with a logbook entry that names the declaration, and stops at the first that fails; applied again, it does what is left. What it has set is marked as declared.\n\n    ferry apply northlight/\n    ferry apply northlight/ -yes -revision \"$(git rev-parse --short HEAD)\"",
	Define: func(fs *flag.FlagSet) func(*call) error {
		revision := fs.String("revision", "", "`TEXT` that says which version of the files this is, for the logbook")
		remove := fs.Bool("remove", false, "remove what the declared spaces have that is not declared")
		yes := fs.Bool("yes", false, "do it")
		return func(c *call) error {
			d, err := c.readDeclaration()
			if err != nil {
				return err
			}
			in := declared(d)
			in.Remove, in.Revision = *remove, *revision
			p, err := c.plan(d.Name, in)
			if err != nil {
				return err
			}
			if !*yes {
				if err := c.printPlan(p); err != nil || c.JSON || len(p.Changes) == 0 {
					return err
				}
				fmt.Fprintln(c.Out, "nothing is changed yet: add -yes to do it")
				return nil
			}
			in.Basis = p.Basis
			return c.apply(d.Name, in)
		}
	},
}

func (c *call) apply(name string, in client.Declare) error {
	ctx, cancel := c.Within(applyTime)
	defer cancel()
	p, err := c.API.ApplyDeclaration(ctx, name, in, func(change client.DeclareChange) {
		if c.JSON {
			_ = c.PrintJSON(change) // the end says whether all was told
			return
		}
		c.printChange(change)
	})
	if p == nil {
		return err
	}
	count := map[string]int{}
	for _, change := range p.Changes {
		count[change.State]++
	}
	switch {
	case c.JSON:
	case err == nil && len(p.Changes) == 0:
		fmt.Fprintf(c.Out, "nothing differs from declaration %s\n", name)
	case err != nil:
		fmt.Fprintf(c.Out, "\n%d done, %d failed, %d left: mend it and apply again, which does what is left\n", count["done"], count["failed"], count["left"])
	default:
		fmt.Fprintf(c.Out, "\ndone: %s\n", words.Many(count["done"], "change"))
	}
	return err
}

func (c *call) drift() error {
	p, err := term.AskWithin[client.Page[client.Drift]](c.Call, time.Minute, http.MethodGet, "/drift", nil, nil)
	if err != nil {
		return err
	}
	_, err = term.List(c.Call, c.Out, p.Items, term.TableOf[client.Drift]{None: "nothing has drifted from what is declared",
		Headings: []string{"address", "setting", "declared", "is", "declaration", "revision", "changed by"},
		Row: func(d client.Drift) []string {
			if d.Setting == "" {
				return []string{d.Address, "", "a " + d.Kind, "gone", d.Declaration, d.Revision, d.Who}
			}
			return []string{d.Address, d.Setting, d.Texts[0], d.Texts[1], d.Declaration, d.Revision, d.Who}
		}})
	if err == nil && len(p.Items) > 0 {
		return term.ExitWith(differs)
	}
	return err
}
