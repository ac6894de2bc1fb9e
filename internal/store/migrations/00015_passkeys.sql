-- +goose Up
-- Passkeys (WebAuthn): by which a member signs in without a password.
CREATE TABLE passkeys (
    id         INTEGER PRIMARY KEY,
    member     INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    name       TEXT NOT NULL,            -- what its member calls it
    place      TEXT NOT NULL,            -- the server's name for which it was made: it is good for no other
    credential BLOB NOT NULL UNIQUE,     -- by which an authenticator names it
    record     TEXT NOT NULL,            -- its public key and what goes with it, as JSON
    created    INTEGER NOT NULL,         -- in milliseconds
    used       INTEGER NOT NULL          -- in milliseconds; 0 for never
) STRICT;
CREATE INDEX passkeys_of ON passkeys (member);

-- By which authenticators know whose a passkey is: 32 bytes at random, NULL for whoever never had one.
ALTER TABLE members ADD COLUMN handle BLOB;

-- +goose Down
ALTER TABLE members DROP COLUMN handle;
DROP TABLE passkeys;
