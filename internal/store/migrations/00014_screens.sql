-- +goose Up
-- Screens of the household on which one picks who one is.
CREATE TABLE screens (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    name    TEXT NOT NULL,
    token   BLOB NOT NULL UNIQUE,        -- SHA-256 of what its cookie holds
    made    TEXT NOT NULL,               -- by which member
    created INTEGER NOT NULL             -- in milliseconds
) STRICT;
ALTER TABLE devices ADD COLUMN screen INTEGER NOT NULL DEFAULT 0; -- 0: of its own
ALTER TABLE members ADD COLUMN pin TEXT NOT NULL DEFAULT '';      -- argon2id, PHC string; empty for none

-- +goose Down
ALTER TABLE members DROP COLUMN pin;
ALTER TABLE devices DROP COLUMN screen;
DROP TABLE screens;
