package journal

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// format is that of the logs in a directory: of segments, records and batches.
// The file of this name says which one it is.
const (
	format     = "3"
	formatName = "format"
)

// checkFormat refuses logs of another format, rather than to take them for
// damaged ones. An empty directory gets this one.
func checkFormat(dir string) error {
	path := filepath.Join(dir, formatName)
	b, err := os.ReadFile(path)
	if have := strings.TrimSpace(string(b)); err == nil && have == format {
		return nil
	} else if err == nil {
		return fmt.Errorf("the logs in %s have format %q, and this version reads format %s: start it on an empty directory, or the version that wrote them on this one", dir, have, format)
	}
	if !os.IsNotExist(err) {
		return err
	}
	if trees := (&Store{dir: dir}).Trees(); len(trees) > 0 {
		return fmt.Errorf("the logs in %s are of a version before format %s: start this one on an empty directory", dir, format)
	}
	next := path + ".new"
	return cmp.Or(os.WriteFile(next, []byte(format+"\n"), 0o600), syncPath(next), os.Rename(next, path), syncPath(dir))
}
