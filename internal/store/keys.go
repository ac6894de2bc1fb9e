package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"time"

	"cozyshelf/internal/core/right"
)

// MostKeys is how many keys of other systems there may be.
const MostKeys = 100

// Key is the key of another system.
type Key struct {
	ID      int64
	Name    string
	May     []right.Right
	Away    bool // good from outside the home, too
	Created time.Time
	Ends    time.Time // zero for never
	Used    time.Time // zero for never
	Address string    // from which it was used last
}

// AddKey keeps a key, of whose token only the hash is kept. A name that is there gives ErrExists, one too many
// ErrMany.
func (s *Store) AddKey(ctx context.Context, k Key, token string) error {
	defer s.changed()
	may, err := json.Marshal(k.May)
	if err != nil {
		return err
	}
	hash := sha256.Sum256([]byte(token))
	return s.change(ctx, func(tx *sql.Tx) error {
		var all, same int
		if err := tx.QueryRowContext(ctx, "SELECT count(*), count(*) FILTER (WHERE folded = ?) FROM keys",
			Fold(k.Name)).Scan(&all, &same); err != nil {
			return err
		}
		switch {
		case same > 0:
			return ErrExists
		case all >= MostKeys:
			return ErrMany
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO keys (name, folded, token, may, away, created, ends, used, address) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, 0, '')", k.Name, Fold(k.Name), hash[:], string(may), k.Away, milli(k.Created),
			milli(k.Ends))
		return err
	})
}

// keptKey is a key with the hash of its token.
type keptKey struct {
	Key
	token []byte
}

func (s *Store) allKeys(ctx context.Context) ([]keptKey, error) {
	return rows(ctx, s.r, func(r *sql.Rows, k *keptKey) error {
		var may string
		var created, ends, used int64
		if err := r.Scan(&k.ID, &k.Name, &k.token, &may, &k.Away, &created, &ends, &used, &k.Address); err != nil {
			return err
		}
		k.Created, k.Ends, k.Used = fromMilli(created), fromMilli(ends), fromMilli(used)
		return json.Unmarshal([]byte(may), &k.May)
	}, "SELECT id, name, token, may, away, created, ends, used, address FROM keys ORDER BY folded")
}

// Keys gives all keys by name.
func (s *Store) Keys(ctx context.Context) (out []Key, err error) {
	list, err := s.allKeys(ctx)
	for _, k := range list {
		out = append(out, k.Key)
	}
	return out, err
}

// RemoveKey takes a key away; ErrNotFound for none of that name.
func (s *Store) RemoveKey(ctx context.Context, name string) error {
	defer s.changed()
	return s.changedOne(ctx, "DELETE FROM keys WHERE folded = ?", Fold(name))
}

// KeyOf finds the key of a token; ErrNotFound for none, and for one whose time is over. Strangers guess, so keys
// are held in memory until something changes.
func (s *Store) KeyOf(ctx context.Context, token string, now time.Time) (Key, error) {
	all := s.keys.Load()
	if all == nil {
		edition := s.edition.Load()
		list, err := s.allKeys(ctx)
		if err != nil {
			return Key{}, err
		}
		of := map[[sha256.Size]byte]Key{}
		for _, k := range list {
			if len(k.token) == sha256.Size {
				of[[sha256.Size]byte(k.token)] = k.Key
			}
		}
		if all = &of; s.edition.Load() == edition {
			s.keys.Store(all)
		}
	}
	k, ok := (*all)[sha256.Sum256([]byte(token))]
	if !ok || !k.Ends.IsZero() && !now.Before(k.Ends) {
		return Key{}, ErrNotFound
	}
	return k, nil
}

// TouchKey notes that a key was used, and from where.
func (s *Store) TouchKey(ctx context.Context, id int64, address string, now time.Time) error {
	_, err := s.w.ExecContext(ctx, "UPDATE keys SET used = ?, address = ? WHERE id = ?", milli(now), address, id)
	return s.explain(err)
}
