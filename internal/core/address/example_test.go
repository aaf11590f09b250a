package address_test

import (
	"fmt"
	"time"

	"steadyferry/internal/core/address"
)

func ExampleParse() {
	for _, text := range []string{"coldchain", "coldchain/readings", "coldchain/readings#3:1200", "coldchain/readings@compliance", "coldchain/inspections/dead"} {
		a, err := address.Parse(text)
		fmt.Println(a, "is the address of a", a.Kind(), err)
	}
	// Output:
	// coldchain is the address of a space <nil>
	// coldchain/readings is the address of a channel <nil>
	// coldchain/readings#3:1200 is the address of a message <nil>
	// coldchain/readings@compliance is the address of a group <nil>
	// coldchain/inspections/dead is the address of a dead letters <nil>
}

func ExampleParsePosition() {
	p, err := address.ParsePosition("ago:90m")
	at, timed := p.TimeAt(time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC))
	fmt.Println(at, timed, err)
	// Output:
	// 2026-11-23 06:30:00 +0000 UTC true <nil>
}
