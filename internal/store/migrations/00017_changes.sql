-- +goose Up
-- Changes to how a member signs in, of which they are told.
CREATE TABLE changes (
    id      INTEGER PRIMARY KEY,
    member  INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    at      INTEGER NOT NULL,            -- in milliseconds
    what    TEXT NOT NULL,
    about   TEXT NOT NULL,               -- what a passkey is called; else empty
    device  INTEGER NOT NULL,            -- on which it was done; 0 where somebody else did it
    called  TEXT NOT NULL,               -- that device's name
    address TEXT NOT NULL,               -- from where; empty for the server's machine
    told    INTEGER NOT NULL DEFAULT 0   -- whether the member knows of it
) STRICT;
CREATE INDEX changes_of ON changes (member);

-- Until when a password is good that was made for a member; 0 for one of their own.
ALTER TABLE members ADD COLUMN made_until INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE members DROP COLUMN made_until;
DROP TABLE changes;
