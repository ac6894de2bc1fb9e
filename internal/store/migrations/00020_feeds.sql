-- +goose Up
-- Secret addresses of what arrived, one of each member at most.
CREATE TABLE feeds (
    member  INTEGER PRIMARY KEY REFERENCES members (id) ON DELETE CASCADE,
    token   BLOB NOT NULL UNIQUE,        -- SHA-256
    created INTEGER NOT NULL             -- in milliseconds
) STRICT;

-- +goose Down
DROP TABLE feeds;
