package change

import (
	"strings"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Base is where the console is found, for links in what is sent outside: at this node, or at
// another one as long as this one is not known.
func Base(view *catalog.View, parts *part.Registry) string {
	base := ""
	for _, n := range view.Nodes {
		if base == "" || parts != nil && n.ID == parts.ID() {
			base = n.API
		}
	}
	return strings.TrimSuffix(base, "/")
}
