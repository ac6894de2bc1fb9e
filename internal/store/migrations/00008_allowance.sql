-- +goose Up
-- What a member may watch, as allowance.Allowance in JSON.
ALTER TABLE members ADD COLUMN allowance TEXT NOT NULL DEFAULT '{}';

-- How much a member watched on a day of the household's clocks, in seconds.
CREATE TABLE watched (
    member  INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    day     TEXT NOT NULL,               -- 2026-11-27
    week    TEXT NOT NULL,               -- the Monday of its week
    watched REAL NOT NULL DEFAULT 0,     -- as devices told
    fetched REAL NOT NULL DEFAULT 0,     -- how much of films was sent
    PRIMARY KEY (member, day)
) STRICT, WITHOUT ROWID;

-- Until when somebody has granted a member more.
CREATE TABLE grants (
    member  INTEGER PRIMARY KEY REFERENCES members (id) ON DELETE CASCADE,
    until   INTEGER NOT NULL,            -- in milliseconds
    grantor TEXT NOT NULL                -- who granted it
) STRICT;

-- Links by which people choose their own password.
CREATE TABLE invites (
    token     BLOB PRIMARY KEY,          -- SHA-256 of what the link holds
    name      TEXT NOT NULL,
    folded    TEXT NOT NULL UNIQUE,
    role      TEXT NOT NULL,
    away      INTEGER NOT NULL,
    allowance TEXT NOT NULL,
    created   INTEGER NOT NULL,          -- in milliseconds
    expires   INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE invites;
DROP TABLE grants;
DROP TABLE watched;
ALTER TABLE members DROP COLUMN allowance;
