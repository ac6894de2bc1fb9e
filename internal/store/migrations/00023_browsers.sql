-- +goose Up
-- Browsers that are told by their push services (RFC 8030) of what concerns their members.
CREATE TABLE browsers (
    device   INTEGER PRIMARY KEY REFERENCES devices (id) ON DELETE CASCADE,
    endpoint TEXT NOT NULL UNIQUE,       -- the address at the push service
    key      TEXT NOT NULL,              -- of the browser (P-256), base64url
    secret   TEXT NOT NULL,              -- shared with the browser (16 bytes), base64url
    created  INTEGER NOT NULL,           -- in milliseconds
    failing  INTEGER NOT NULL DEFAULT 0  -- since when its push service takes nothing, in milliseconds; 0 while it does
) STRICT;

-- +goose Down
DROP TABLE browsers;
