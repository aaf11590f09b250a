package test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

// The tours of the README work when they are pasted.
func TestTheTourWorks(t *testing.T) {
	t.Parallel()
	said, printed := tour(t, "## A five-minute tour", "127.0.0.1:14720", "127.0.0.1:0", "-dir", ".demo")
	assert.Contains(t, said, "/sign-in#")
	for _, says := range []string{"coldchain/readings", "created topic coldchain/doors", "sent 1 message", " F\"", "sent 5 messages", `"accepted":1`, "add -yes", "is back with 7 messages", "restore topic", "published",
		"created group coldchain/readings@trial", "dashboards-1", "nothing is changed yet", "(seek ", "old weather is of no use",
		"celsius-not-a-number", "get the edited content", " has begun", "■ alarm: coldchain/labels: dead at or above 1", "ended", "it would have rung", "created chore coldchain/nightly-return", "nothing of coldchain/labels matched", "## Who did what", "edited", "accepted", "brings them back", "brought back: each is", "no label is left", "1 accepted, 0 given back, 1 rejected", "nothing is sent yet", "brought back", "1 to create, 1 to set, 0 to remove", "done: 2 changes", "declared by northlight", "only what you may see is shown", "help-desk-1 may not see-content", "help-desk-1 gains see-counts", "return messages", "nothing is deleted at once", `"messages":[{`, "coldchain/doors@porters"} {
		assert.Contains(t, printed, says)
	}
	assert.NotContains(t, printed, "urn:steady-ferry:problem", "curl ends well also with a refusal")
}

func TestTheTourOfAClusterWorks(t *testing.T) {
	t.Parallel()
	said, printed := tour(t, "## A tour of a cluster", "127.0.0.1:1472", "127.0.0.1:2472", "-nodes", "3", "-dir", ".demo-cluster")
	assert.Contains(t, said, "with 3 nodes")
	for _, says := range []string{"each on 3 nodes", "healthy: ", "each with a leader", "away", "all take messages", "away (", "the leader no longer answered", "nothing was kept twice",
		"coldchain/hatches#11; equal on", "without node-b and node-c, of", "only readable"} {
		assert.Contains(t, printed, says)
	}
}

// From the alarm to messages that flow it takes eight commands at most.
func TestTheWayFromAnAlarmIsShort(t *testing.T) {
	readme, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	_, text, found := strings.Cut(string(readme), "Something rings")
	require.True(t, found)
	_, text, _ = strings.Cut(text, "```sh\n")
	text, _, _ = strings.Cut(text, "```")
	commands := regexp.MustCompile(`(?m)^ferry .*`).FindAllString(text, -1)
	require.Contains(t, commands[0], "ferry new watch")
	assert.LessOrEqual(t, len(commands)-1, 8, "without the watch that rings")
	assert.Contains(t, commands[len(commands)-1], "ferry incidents")
}

// tour runs a demo, and in a shell what a section of the README says; the
// addresses of the demo are replaced. It returns what both have printed.
func tour(t *testing.T, section, address, listen string, args ...string) (said, printed string) {
	t.Helper()
	readme, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	_, text, found := strings.Cut(string(readme), section)
	require.True(t, found)
	text, _, _ = strings.Cut(text, "\n## ")
	var script strings.Builder
	script.WriteString("set -e\n")
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(text, -1) {
		script.WriteString(block[1])
	}
	dir := harness.Dir(t)
	bin, err := filepath.Abs(filepath.Dir(harness.Binary(t, "ferry")))
	require.NoError(t, err)
	require.NoError(t, os.Symlink(bin, filepath.Join(dir, "bin")))
	first := listen
	if !strings.HasSuffix(listen, ":0") {
		first += "0"
	}
	said = startDemo(t, dir, append([]string{"-listen", first}, args...)...)
	if first == listen {
		listen = regexp.MustCompile(`FERRY_SERVER=http://(\S+)`).FindStringSubmatch(said)[1]
	}
	time.Sleep(3 * time.Second) // so that the last minute has readings
	run := exec.Command("bash", "-c", strings.ReplaceAll(script.String(), address, listen))
	run.Dir = dir
	b, err := run.CombinedOutput()
	require.NoError(t, err, string(b))
	return said, string(b)
}

func TestTheReferencesAreCurrent(t *testing.T) {
	commands, err := os.ReadFile("../docs/commands.md")
	require.NoError(t, err)
	out, err := exec.Command(harness.Binary(t, "ferry"), "help", "-markdown").Output()
	require.NoError(t, err)
	assert.Equal(t, string(out), string(commands), "run make docs")

	run := exec.Command("go", "run", "./scripts/httpdoc")
	run.Dir = ".."
	out, err = run.Output()
	require.NoError(t, err)
	http, err := os.ReadFile("../docs/http.md")
	require.NoError(t, err)
	assert.Equal(t, string(out), string(http), "run make docs")

	configuration, err := os.ReadFile("../docs/configuration.md")
	require.NoError(t, err)
	out, err = exec.Command(harness.Binary(t, "ferryd"), "serve", "-h").Output()
	require.NoError(t, err)
	names := regexp.MustCompile(`(?m)^  -(\S+)`).FindAllStringSubmatch(string(out), -1)
	require.NotEmpty(t, names)
	for _, name := range names {
		assert.Contains(t, string(configuration), "`-"+name[1]+"`")
	}
}

func TestLinksInTheDocsLeadSomewhere(t *testing.T) {
	files, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	for _, file := range append(files, "../README.md") {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, link := range regexp.MustCompile(`\]\(([^)#:]+)\)`).FindAllStringSubmatch(string(b), -1) {
			_, err := os.Stat(filepath.Join(filepath.Dir(file), link[1]))
			assert.NoError(t, err, "%s links to %s", file, link[1])
		}
	}
}

// The floors of the house, by folder: imports point down only, and what a floor
// must not know of the world stands beside it.
var floors = []struct {
	folder string
	floor  int
	not    []string // packages, or parts of their names
}{
	{"internal/core", 0, []string{"net/http", "database/sql", "flag", "gin-gonic", "sqlx"}},
	{"internal/engine", 1, []string{"gin-gonic", "flag", "steadyferry/client"}},
	{"client", 1, []string{"gin-gonic", "sqlx", "steadyferry/internal/engine"}},
	{"internal/service", 2, []string{"net/http", "gin-gonic", "flag", "sqlx", "steadyferry/client"}},
	{"internal/door", 3, []string{"flag", "sqlx"}},
	{"internal/node", 4, []string{"net/http", "gin-gonic", "flag", "steadyferry/client"}},
	{"cmd", 5, nil},
}

func floorOf(path string) (floor int, ok bool) {
	for _, f := range floors {
		if path == f.folder || strings.HasPrefix(path, f.folder+"/") {
			return f.floor, true
		}
	}
	return 0, false
}

// mostLines is how many lines a file has at most: one is read in one sitting.
const mostLines = 500

// mostOfAPage is how many lines a page of the console has at most.
const mostOfAPage = 300

// mostOfAPackage is how many lines a package has at most, without its tests.
const mostOfAPackage = 3000

func TestFilesAreShort(t *testing.T) {
	lines := map[string]int{} // by package
	for _, folder := range []string{"client", "cmd", "internal", "scripts", "test", "web/src"} {
		err := filepath.WalkDir(filepath.Join("..", folder), func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !slices.Contains([]string{".go", ".ts", ".tsx"}, filepath.Ext(path)) || strings.HasSuffix(path, ".gen.ts") {
				return err
			}
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			count, most := strings.Count(string(b), "\n"), mostLines
			if filepath.Base(filepath.Dir(path)) == "pages" {
				most = mostOfAPage
			}
			assert.LessOrEqual(t, count, most, "%s has %d lines", path, count)
			if strings.HasSuffix(path, "_test.go") {
				return nil
			}
			lines[filepath.Dir(path)] += count
			return nil
		})
		require.NoError(t, err)
	}
	for folder, count := range lines {
		if !strings.HasPrefix(folder, "../web") {
			assert.LessOrEqual(t, count, mostOfAPackage, "%s has %d lines", folder, count)
		}
	}
	assert.Less(t, lines["../internal/node"], 700, "the node only opens things")
}

func TestTheHouse(t *testing.T) {
	for _, f := range floors {
		err := filepath.WalkDir(filepath.Join("..", f.folder), func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, i := range file.Imports {
				imported := strings.Trim(i.Path.Value, `"`)
				own, isOurs := strings.CutPrefix(imported, "steadyferry/")
				if strings.HasSuffix(path, "_test.go") {
					continue // tests of a service open whole nodes
				}
				if below, known := floorOf(own); isOurs {
					assert.True(t, known, "%s imports %s, which is on no floor", path, imported)
					assert.LessOrEqual(t, below, f.floor, "%s imports %s, which is above it", path, imported)
				}
				for _, name := range f.not {
					assert.False(t, strings.Contains("/"+imported+"/", "/"+name+"/") || strings.Contains(imported, "/"+name), "%s imports %s", path, imported)
				}
			}
			return nil
		})
		require.NoError(t, err)
	}
}
