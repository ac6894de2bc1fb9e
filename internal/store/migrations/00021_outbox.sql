-- +goose Up
-- Notices that wait to be sent, each once for each receiver, in the order of their ids.
CREATE TABLE outbox (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    receiver TEXT NOT NULL,
    code     TEXT NOT NULL,              -- what happened
    at       INTEGER NOT NULL,           -- in milliseconds
    body     TEXT NOT NULL               -- the notice, as JSON
) STRICT;
CREATE INDEX outbox_of ON outbox (receiver, id);

-- How it goes with each receiver.
CREATE TABLE receivers (
    name     TEXT PRIMARY KEY,
    address  TEXT NOT NULL,              -- where it was: another address is another receiver
    failures INTEGER NOT NULL DEFAULT 0, -- since the last success
    next     INTEGER NOT NULL DEFAULT 0, -- not before then, in milliseconds
    sent     INTEGER NOT NULL DEFAULT 0, -- when one was last taken, in milliseconds; 0 for never
    took     INTEGER NOT NULL DEFAULT 0, -- how many notices it took
    lost     INTEGER NOT NULL DEFAULT 0, -- how many were given up
    problem  TEXT NOT NULL DEFAULT '',   -- of the last try
    gone     INTEGER NOT NULL DEFAULT 0  -- it said that it wants no more
) STRICT;

-- What the server remembers of itself, such as which version ran last.
CREATE TABLE remembered (
    name TEXT PRIMARY KEY,
    text TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE remembered;
DROP TABLE receivers;
DROP TABLE outbox;
