-- +goose Up
-- Copies of films that are made beforehand.
CREATE TABLE prepared (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    file    INTEGER NOT NULL REFERENCES files (id),
    size    INTEGER NOT NULL,            -- of the file, when the copy was asked for
    mtime   INTEGER NOT NULL,
    height  INTEGER NOT NULL,            -- lines at most
    wanted  TEXT NOT NULL DEFAULT '',    -- for which member
    asked   TEXT NOT NULL DEFAULT '',    -- by which member; empty for an administrator's tool
    at      INTEGER NOT NULL,            -- when, in milliseconds
    soon    INTEGER NOT NULL DEFAULT 0,  -- 1: not only at quiet hours
    state   TEXT NOT NULL,               -- waiting, making, ready, failed
    done    REAL NOT NULL DEFAULT 0,     -- seconds of film
    length  REAL NOT NULL DEFAULT 0,     -- seconds
    bytes   INTEGER NOT NULL DEFAULT 0,  -- of the copy: expected until it is ready
    media   TEXT NOT NULL DEFAULT '{}',  -- its tracks as media.Info in JSON, when all is made
    problem TEXT NOT NULL DEFAULT '',
    UNIQUE (file, height)
) STRICT;

-- +goose Down
DROP TABLE prepared;
