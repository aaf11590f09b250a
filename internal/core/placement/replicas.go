package placement

import (
	"fmt"

	"steadyferry/internal/core/words"
)

// EvenEffect explains an even number of replicas.
func EvenEffect(replicas int) []string {
	switch {
	case replicas == 2:
		return []string{"2 replicas keep two copies, but both are needed for writing: the loss of either node ends it. 3 go on with one node lost"}
	case replicas%2 == 0:
		return []string{fmt.Sprintf("%s go on after the loss of %s, as %d do: the last one adds a copy, and work", words.Many(replicas, "replica"), NodesText((replicas-1)/2), replicas-1)}
	}
	return nil
}

// NodesText is so many nodes in words.
func NodesText(n int) string {
	if n == 0 {
		return "no node"
	}
	return words.Many(n, "node")
}
