package admin

import (
	"net/http"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/right"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

func keyOf(k store.Key) control.Key {
	return control.Key{Name: k.Name, May: k.May, Away: k.Away, Created: k.Created, Ends: k.Ends, Used: k.Used,
		Address: k.Address}
}

// addKey makes a key for another system.
func (s *Admin) addKey(r *http.Request) (any, error) {
	var in control.NewKey
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	var texts []string
	for _, one := range in.May {
		texts = append(texts, string(one))
	}
	may, err := right.Read(texts)
	if err != nil {
		return nil, live.UsageProblem("the key cannot be made", err.Error(), "see cozyshelf key add --help")
	}
	token, k, err := s.NewKey(r.Context(), store.Key{Name: in.Name, May: may, Away: in.Away},
		time.Duration(in.Lasts*float64(time.Second)))
	return control.KeyMade{Key: keyOf(k), Token: token}, err
}
