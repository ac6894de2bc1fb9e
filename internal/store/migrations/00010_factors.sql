-- +goose Up
-- Second factors: one-time codes by time.
CREATE TABLE factors (
    member  INTEGER PRIMARY KEY REFERENCES members (id) ON DELETE CASCADE,
    secret  TEXT NOT NULL,               -- base32
    used    INTEGER NOT NULL,            -- the last period of which a code was taken: each is good once
    created INTEGER NOT NULL             -- in milliseconds
) STRICT;

-- What is left of the codes for who has lost theirs, each good once.
CREATE TABLE recoveries (
    member INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    code   BLOB NOT NULL,                -- SHA-256
    PRIMARY KEY (member, code)
) STRICT, WITHOUT ROWID;

-- Whether a device was signed in with a second factor.
ALTER TABLE devices ADD COLUMN second INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE devices DROP COLUMN second;
DROP TABLE recoveries;
DROP TABLE factors;
