package household_test

import (
	"fmt"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/problem"
)

const mill = `format = 1 # of this file

[household]
name = "Fernhollow Mill"

[storage]
state = "/srv/cozyshelf/state"

[[shelf]]
name = "films"
kind = "films"
folders = ["/srv/media/films"]
`

func ExampleDecode() {
	h, err := household.Decode("household.toml", []byte(mill))
	fmt.Println(h.Household.Name, h.Server.Port, h.Shelves[0].Access, err)

	_, err = household.Decode("household.toml", []byte(mill+"\n[server]\nprot = 8000\n"))
	p := problem.Of(err)
	fmt.Printf("%s (%s)\n→ %s\n", p.What, p.Where, p.Fix)
	// Output:
	// Fernhollow Mill 26990 read <nil>
	// the household file has a key that is not known: server.prot (household.toml:15:1)
	// → did you mean "port"?
}

func ExampleSet() {
	text, err := household.Set("household.toml", []byte(mill), "server", "port", "8000")
	h, derr := household.Decode("household.toml", text)
	fmt.Println(h.Server.Port, err, derr)
	// Output: 8000 <nil> <nil>
}
