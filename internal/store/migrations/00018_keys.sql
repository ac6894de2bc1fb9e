-- +goose Up
-- Keys of other systems, such as a house's automation.
CREATE TABLE keys (
    id      INTEGER PRIMARY KEY,
    name    TEXT NOT NULL,
    folded  TEXT NOT NULL UNIQUE,
    token   BLOB NOT NULL UNIQUE,        -- SHA-256
    may     TEXT NOT NULL,               -- rights, as a JSON list
    away    INTEGER NOT NULL,            -- good from outside the home, too
    created INTEGER NOT NULL,            -- in milliseconds
    ends    INTEGER NOT NULL,            -- 0 for never
    used    INTEGER NOT NULL,            -- 0 for never
    address TEXT NOT NULL                -- from which it was used last
) STRICT;

-- +goose Down
DROP TABLE keys;
