package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
)

// Member is a person with an account.
type Member struct {
	ID       int64
	Name     string
	Role     allowance.Role
	Away     bool
	Allowed  allowance.Allowance
	Created  time.Time
	Devices  int
	History  usage.Kept // for how long their plays are to be kept
	PIN      string     // for screens, argon2id in PHC form; empty for none
	Ruled    bool       // titles were shown to the member by themselves, or hidden
	Seen     time.Time
	Password string // argon2id, PHC string
	// MadeUntil is when a password ends that was made for the member; zero for one of their own.
	MadeUntil time.Time
}

// Device is a client that a member has signed in from.
type Device struct {
	ID      int64     `json:"id"`
	Member  int64     `json:"-"`
	Name    string    `json:"name"`
	Created time.Time `json:"created_at"`
	Seen    time.Time `json:"seen_at"`
	Expires time.Time `json:"expires_at"` // unless it is used before
	Ends    time.Time `json:"ends_at"`    // however much it is used
	Kind    For       `json:"kind"`
	Second  bool      `json:"second_factor"` // it was signed in with one

	Address  string `json:"address"` // that it had last
	Away     bool   `json:"away"`    // which is outside the home
	Networks string `json:"-"`       // outside the home from which it is known, as allowance.Moved has them
	Told     bool   `json:"-"`       // its member knows of it
	Screen   int64  `json:"-"`       // of the household's, on which it is; 0 for a device of its own
}

// For is what a sign-in is for.
type For string

// What sign-ins are for. A page's is told apart from a program's, so that a cookie is no
// token for programs.
const (
	ForPage    For = "page"
	ForProgram For = "program"
)

// Fold is the form in which names are compared.
func Fold(name string) string { return strings.ToLower(strings.TrimSpace(name)) }

// ErrLastAdmin says that the household would be left without an administrator.
var ErrLastAdmin = errors.New("the last administrator")

// ErrFirstAdmin says that the first member must be an administrator.
var ErrFirstAdmin = errors.New("the first member must be an administrator")

// AddMember adds a member. The first must be an administrator.
func (s *Store) AddMember(ctx context.Context, m Member, now time.Time) (Member, error) {
	defer s.changed()
	err := s.change(ctx, func(tx *sql.Tx) (err error) {
		m, err = addMember(ctx, tx, m, now)
		return err
	})
	return m, err
}

func addMember(ctx context.Context, tx *sql.Tx, m Member, now time.Time) (Member, error) {
	var all, same int
	if err := tx.QueryRowContext(ctx, "SELECT count(*), count(*) FILTER (WHERE folded = ?) FROM members",
		Fold(m.Name)).Scan(&all, &same); err != nil {
		return m, err
	}
	if same > 0 {
		return m, fmt.Errorf("member %s %w", m.Name, ErrExists)
	}
	if all == 0 && m.Role != allowance.Admin {
		return m, ErrFirstAdmin
	}
	allowed, err := json.Marshal(m.Allowed)
	if err != nil {
		return m, err
	}
	m.Created = now
	res, err := tx.ExecContext(ctx, "INSERT INTO members (name, folded, role, away, password, created, allowance, "+
		"made_until) VALUES (?, ?, ?, ?, ?, ?, ?, ?)", m.Name, Fold(m.Name), m.Role, m.Away, m.Password, milli(now),
		string(allowed), milli(m.MadeUntil))
	if err == nil {
		m.ID, err = res.LastInsertId()
	}
	return m, err
}

// change runs a function in a transaction that is committed if it gives no error.
func (s *Store) change(ctx context.Context, do func(*sql.Tx) error) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		if err := do(tx); err != nil {
			return err
		}
		return s.reroll(ctx, tx)
	})
}

// tx does something in one transaction.
func (s *Store) tx(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := s.w.BeginTx(ctx, nil)
	if err != nil {
		return s.explain(err)
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return s.explain(err)
	}
	also := alsoOf(ctx)
	if also != nil {
		if _, err := enqueue(ctx, tx, also.list); err != nil {
			return s.explain(err)
		}
	}
	if err := tx.Commit(); err != nil {
		return s.explain(err)
	}
	if also != nil {
		also.done = true
	}
	return nil
}

const memberColumns = `SELECT m.id, m.name, m.role, m.away, m.created, m.password, m.allowance,
	(SELECT count(*) FROM devices d WHERE d.member = m.id AND d.expires > unixepoch() * 1000),
		coalesce((SELECT max(seen) FROM devices d WHERE d.member = m.id), 0),
	EXISTS (SELECT 1 FROM title_rules r WHERE r.member = m.id), m.history, m.pin, m.made_until FROM members m `

func scanMember(r *sql.Rows, m *Member) error {
	var created, seen, made int64
	var allowed string
	err := r.Scan(&m.ID, &m.Name, &m.Role, &m.Away, &created, &m.Password, &allowed, &m.Devices, &seen, &m.Ruled,
		&m.History, &m.PIN, &made)
	m.Created, m.Seen, m.MadeUntil = fromMilli(created), fromMilli(seen), fromMilli(made)
	m.allow(allowed)
	return err
}

// allow reads what a member may watch. Whose cannot be read is not let in until it is set anew.
func (m *Member) allow(text string) {
	if err := json.Unmarshal([]byte(text), &m.Allowed); err != nil {
		m.Allowed = allowance.Allowance{Until: time.Unix(1, 0)}
	}
}

// Members gives all members in the order in which they were added.
func (s *Store) Members(ctx context.Context) ([]Member, error) {
	return rows(ctx, s.r, scanMember, memberColumns+"ORDER BY m.id")
}

// Member finds a member by name, in any case of letters. Strangers guess names, so members
// are held in memory until something changes.
func (s *Store) Member(ctx context.Context, name string) (Member, error) {
	all := s.people.Load()
	if all == nil {
		edition := s.edition.Load()
		list, err := s.Members(ctx)
		if err != nil {
			return Member{}, err
		}
		byName := make(map[string]Member, len(list))
		for _, m := range list {
			byName[Fold(m.Name)] = m
		}
		if all = &byName; s.edition.Load() == edition {
			s.people.Store(all)
		}
	}
	m, ok := (*all)[Fold(name)]
	if !ok {
		return m, ErrNotFound
	}
	return m, nil
}

// RemoveMember removes a member with its devices and positions. Its plays stay.
func (s *Store) RemoveMember(ctx context.Context, name string) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		var role allowance.Role
		err := tx.QueryRowContext(ctx, "SELECT role FROM members WHERE folded = ?", Fold(name)).Scan(&role)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		var all int
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM members").Scan(&all); err != nil {
			return err
		}
		if role == allowance.Admin && all > 1 {
			if err := anotherAdmin(ctx, tx, name); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, "DELETE FROM members WHERE folded = ?", Fold(name))
		return err
	})
}

// SetPassword gives a member a new password and signs all its devices out. One that was made for them is good
// until a moment; zero is for one of their own.
func (s *Store) SetPassword(ctx context.Context, name, password string, until time.Time) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		var id int64
		err := tx.QueryRowContext(ctx, "UPDATE members SET password = ?, made_until = ? WHERE folded = ? RETURNING id",
			password, milli(until), Fold(name)).Scan(&id)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "DELETE FROM devices WHERE member = ?", id)
		return err
	})
}

// anotherAdmin gives ErrLastAdmin where there is no administrator beside a member. One whose account ends is
// none to rely on.
func anotherAdmin(ctx context.Context, tx *sql.Tx, name string) error {
	var others int
	err := tx.QueryRowContext(ctx, "SELECT count(*) FROM members WHERE role = 'admin' AND folded != ? AND "+
		"allowance ->> 'ends_at' IS NULL", Fold(name)).Scan(&others)
	if err == nil && others == 0 {
		err = ErrLastAdmin
	}
	return err
}

// Edit is what is to be changed about a member; nil leaves it.
type Edit struct {
	Role    *allowance.Role
	Away    *bool
	Allowed *allowance.Allowance
}

// EditMember changes what a member may do: all that is asked, or nothing. The last
// administrator stays one.
func (s *Store) EditMember(ctx context.Context, name string, e Edit) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		var role allowance.Role
		err := tx.QueryRowContext(ctx, "SELECT role FROM members WHERE folded = ?", Fold(name)).Scan(&role)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		ends := e.Allowed != nil && !e.Allowed.Until.IsZero()
		if role == allowance.Admin && (ends || e.Role != nil && *e.Role != allowance.Admin) {
			if err := anotherAdmin(ctx, tx, name); err != nil {
				return err
			}
		}
		var allowed *string
		if e.Allowed != nil {
			b, err := json.Marshal(e.Allowed)
			if err != nil {
				return err
			}
			text := string(b)
			allowed = &text
		}
		_, err = tx.ExecContext(ctx, "UPDATE members SET role = coalesce(?, role), away = coalesce(?, away), "+
			"allowance = coalesce(?, allowance) WHERE folded = ?", e.Role, e.Away, allowed, Fold(name))
		return err
	})
}

// mostDevices is how many devices of a member stay signed in; beyond, the one that was used
// least lately is signed out.
const mostDevices = 100

// AddDevice notes a device that signed in: its name, what for, and until when. token is the
// token itself; only its hash is kept.
func (s *Store) AddDevice(ctx context.Context, member int64, d Device, token string, now time.Time) (Device, error) {
	defer s.changed()
	d.Member, d.Created, d.Seen = member, now, now
	hash := sha256.Sum256([]byte(token))
	err := s.change(ctx, func(tx *sql.Tx) error {
		// Expired devices go at this occasion, but for the latest: the clock may be
		// ahead, and set back in a moment.
		if _, err := tx.ExecContext(ctx, "DELETE FROM devices WHERE member = ?1 AND expires < ?2 AND id NOT IN "+
			"(SELECT id FROM devices WHERE member = ?1 ORDER BY id DESC LIMIT 50)", member, milli(now)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM devices WHERE member = ?1 AND id NOT IN (SELECT id FROM "+
			"devices WHERE member = ?1 ORDER BY seen DESC, id DESC LIMIT ?2)", member, mostDevices-1); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO devices (member, name, token, created, seen, expires, ends, "+
			"kind, second, address, away, networks, screen, told, moved) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, "+
			"?13 != 0 OR NOT EXISTS (SELECT 1 FROM devices WHERE member = ?1), iif(?13 != 0, 0, ?4))",
			member, d.Name, hash[:], milli(now), milli(now), milli(d.Expires), milli(d.Ends), d.Kind, d.Second,
			d.Address, d.Away, d.Networks, d.Screen)
		if err == nil {
			d.ID, err = res.LastInsertId()
		}
		return err
	})
	return d, err
}

// Authenticate finds who a token belongs to, of those that are for a page or a program; for
// an empty kind, of all. An unknown or expired one, and one that is for the other, gives
// ErrNotFound. It is asked at every request, also by strangers who guess, so all that is
// signed in is held in memory until something changes.
func (s *Store) Authenticate(ctx context.Context, token string, kind For, now time.Time) (Member, Device, error) {
	all, err := s.signedIn(ctx)
	if err != nil {
		return Member{}, Device{}, err
	}
	e, ok := all[sha256.Sum256([]byte(token))]
	if !ok || kind != "" && e.d.Kind != kind || !e.d.Expires.After(now) || !e.d.Ends.After(now) {
		return Member{}, Device{}, ErrNotFound
	}
	return e.m, e.d, nil
}

// SignedIn gives a device that is signed in, by its id, and whose it is; else ErrNotFound.
func (s *Store) SignedIn(ctx context.Context, device int64, now time.Time) (Member, Device, error) {
	all, err := s.signedIn(ctx)
	if err != nil {
		return Member{}, Device{}, err
	}
	for _, e := range all {
		if e.d.ID == device && e.d.Expires.After(now) && e.d.Ends.After(now) {
			return e.m, e.d, nil
		}
	}
	return Member{}, Device{}, ErrNotFound
}

// DevicesOf gives the devices that a member is signed in on, the latest used first.
func (s *Store) DevicesOf(ctx context.Context, member int64, now time.Time) ([]Device, error) {
	all, err := s.signedIn(ctx)
	var out []Device
	for _, e := range all {
		if e.m.ID == member && e.d.Expires.After(now) && e.d.Ends.After(now) {
			out = append(out, e.d)
		}
	}
	slices.SortFunc(out, func(a, b Device) int { return cmp.Or(b.Seen.Compare(a.Seen), cmp.Compare(b.ID, a.ID)) })
	return out, err
}

// entry is a device that is signed in, and whose it is.
type entry struct {
	m Member
	d Device
}

// signedIn gives all devices by the hash of their token. Who changes members or devices says
// so by changed, before the change is told of as done.
func (s *Store) signedIn(ctx context.Context) (map[[sha256.Size]byte]entry, error) {
	if all := s.devices.Load(); all != nil {
		return *all, nil
	}
	s.reading.Lock()
	defer s.reading.Unlock()
	if all := s.devices.Load(); all != nil {
		return *all, nil
	}
	edition := s.edition.Load()
	all := map[[sha256.Size]byte]entry{}
	_, err := rows(ctx, s.r, func(r *sql.Rows, _ *struct{}) error {
		var e entry
		var token []byte
		var created, seen, expires, ends int64
		var allowed string
		err := r.Scan(&e.m.ID, &e.m.Name, &e.m.Role, &e.m.Away, &allowed, &e.m.Ruled, &e.d.ID, &e.d.Name, &token, &created,
			&seen, &expires, &ends, &e.d.Kind, &e.d.Second, &e.d.Address, &e.d.Away,
			&e.d.Networks, &e.d.Told, &e.d.Screen)
		e.d.Created, e.d.Seen, e.d.Expires, e.d.Ends, e.d.Member = fromMilli(created), fromMilli(seen),
			fromMilli(expires), fromMilli(ends), e.m.ID
		if len(token) == sha256.Size {
			e.m.allow(allowed)
			all[[sha256.Size]byte(token)] = e
		}
		return err
	}, `SELECT m.id, m.name, m.role, m.away, m.allowance,
		EXISTS (SELECT 1 FROM title_rules r WHERE r.member = m.id), d.id, d.name, d.token, d.created, d.seen, d.expires,
		d.ends, d.kind, d.second, d.address, d.away, d.networks, d.told, d.screen
		FROM devices d JOIN members m ON m.id = d.member`)
	if err != nil {
		return nil, err
	}
	if s.edition.Load() == edition { // else something changed meanwhile, and the next one reads anew
		s.devices.Store(&all)
	}
	return all, nil
}

// changed forgets what is held in memory of members and devices.
func (s *Store) changed() {
	s.edition.Add(1)
	s.devices.Store(nil)
	s.people.Store(nil)
	s.keys.Store(nil)
}

// TouchDevice notes that a device was used and from where, whether its member is to be told of it, and until
// when it stays signed in, but not beyond its end. That is never shortened: the clock may have been set
// back, or not been set yet.
func (s *Store) TouchDevice(ctx context.Context, d Device, tell bool, now, expires time.Time) error {
	defer s.changed()
	return s.tx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE devices SET seen = ?1, expires = max(expires, min(ends, ?2)), "+
			"address = ?4, away = ?5, networks = ?6, told = iif(?7, 0, told), moved = iif(?7, ?1, moved) WHERE id = ?3",
			milli(now), milli(expires), d.ID, d.Address, d.Away, d.Networks, tell)
		return err
	})
}

// Hears gives up to when a member has heard of the devices of others; zero for whoever does not want to.
func (s *Store) Hears(ctx context.Context, member int64) (time.Time, error) {
	var hears int64
	err := s.r.QueryRowContext(ctx, "SELECT hears FROM members WHERE id = ?", member).Scan(&hears)
	return fromMilli(hears), s.explain(err)
}

// SetHears notes up to when a member has heard of the devices of others; zero for whoever does not want to.
func (s *Store) SetHears(ctx context.Context, member int64, until time.Time) error {
	_, err := s.w.ExecContext(ctx, "UPDATE members SET hears = ? WHERE id = ?", milli(until), member)
	return s.explain(err)
}

// OthersDevice is a device of somebody else.
type OthersDevice struct {
	Device
	Whose string
}

// MovedSince gives devices of others than a member that were new after a moment, or in a new network: the
// latest first, and so many at most.
func (s *Store) MovedSince(ctx context.Context, member int64, since time.Time, limit int) ([]OthersDevice, error) {
	return rows(ctx, s.r, func(r *sql.Rows, o *OthersDevice) error {
		var seen int64
		err := r.Scan(&o.ID, &o.Whose, &o.Name, &seen, &o.Address, &o.Away)
		o.Seen = fromMilli(seen)
		return err
	}, `SELECT d.id, m.name, d.name, d.moved, d.address, d.away FROM devices d JOIN members m ON m.id = d.member
		WHERE d.member != ? AND d.moved > ? ORDER BY d.moved DESC, d.id DESC LIMIT ?`, member, milli(since), limit)
}

// ToldOfDevices notes that a member knows of all devices they are signed in on.
func (s *Store) ToldOfDevices(ctx context.Context, member int64) error {
	defer s.changed()
	_, err := s.w.ExecContext(ctx, "UPDATE devices SET told = 1 WHERE member = ? AND told = 0", member)
	return s.explain(err)
}

// RemoveDevice signs a device out.
func (s *Store) RemoveDevice(ctx context.Context, id int64) error {
	defer s.changed()
	_, err := s.w.ExecContext(ctx, "DELETE FROM devices WHERE id = ?", id)
	return err
}

// AnyMember reports whether there is a member yet.
func (s *Store) AnyMember(ctx context.Context) (bool, error) {
	var any bool
	err := s.r.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM members)").Scan(&any)
	return any, err
}
