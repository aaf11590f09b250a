package group_test

import (
	"fmt"
	"time"

	"steadyferry/internal/core/group"
)

// A partition goes from one member to another in two steps: its holder is asked
// for it, and it is given once the holder has let go.
func ExampleTable() {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	t := group.NewTable(4)
	_ = t.Join("ada", group.Member{Timeout: 10 * time.Second})
	t.Balance(now)
	fmt.Println(t.Share("ada"))
	_ = t.Join("ben", group.Member{Timeout: 10 * time.Second})
	t.Balance(now)
	fmt.Println(t.Share("ada"))
	t.GiveUp("ada", []int{0, 1})
	t.Balance(now)
	fmt.Println(t.Share("ben"))
	// Output:
	// [0 1 2 3] []
	// [0 1] [2 3]
	// [2 3] []
}
