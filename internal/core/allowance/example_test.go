package allowance_test

import (
	"fmt"
	"net/netip"

	"cozyshelf/internal/core/allowance"
)

// Only what a trusted proxy says of the client counts.
func ExampleClientAddress() {
	trusted := []netip.Prefix{netip.MustParsePrefix("192.0.2.10/32")}
	said := []string{"10.0.0.7, 203.0.113.5"} // the first was written by the client itself
	fmt.Println(allowance.ClientAddress(netip.MustParseAddr("192.0.2.10"), said, trusted))
	fmt.Println(allowance.ClientAddress(netip.MustParseAddr("203.0.113.9"), said, trusted))
	// Output:
	// 203.0.113.5
	// 203.0.113.9
}
