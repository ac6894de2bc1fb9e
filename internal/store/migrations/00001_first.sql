-- +goose Up
CREATE TABLE members (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    name     TEXT NOT NULL,
    folded   TEXT NOT NULL UNIQUE,       -- name in lower case: one account a person
    role     TEXT NOT NULL,
    away     INTEGER NOT NULL,           -- may use the server from outside the home
    password TEXT NOT NULL,              -- argon2id, PHC string
    created  INTEGER NOT NULL            -- times are Unix milliseconds
) STRICT;

CREATE TABLE devices (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    member  INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    name    TEXT NOT NULL,
    token   BLOB NOT NULL UNIQUE,        -- SHA-256 of the token, never the token
    created INTEGER NOT NULL,
    seen    INTEGER NOT NULL,
    expires INTEGER NOT NULL
) STRICT;
CREATE INDEX devices_member ON devices (member);

CREATE TABLE folders (
    id        INTEGER PRIMARY KEY,
    shelf     TEXT NOT NULL,
    root      TEXT NOT NULL,             -- the shelf's folder, as the administrator wrote it
    path      TEXT NOT NULL,             -- below it; empty for itself
    signature BLOB NOT NULL,             -- of names, sizes and times in it; empty: look again
    problem   TEXT NOT NULL DEFAULT '',
    UNIQUE (shelf, root, path)
) STRICT;

CREATE TABLE titles (
    id     INTEGER PRIMARY KEY,
    shelf  TEXT NOT NULL,
    kind   TEXT NOT NULL,
    name   TEXT NOT NULL,
    folded TEXT NOT NULL,
    year   INTEGER NOT NULL,
    maker  TEXT NOT NULL,                -- music: whose album
    added  INTEGER NOT NULL,
    UNIQUE (shelf, folded, year, maker)
) STRICT;

CREATE TABLE files (
    id        INTEGER PRIMARY KEY,
    folder    INTEGER NOT NULL REFERENCES folders (id),
    name      TEXT NOT NULL,             -- as stored on disk; not always valid UTF-8
    size      INTEGER NOT NULL,
    mtime     INTEGER NOT NULL,          -- Unix nanoseconds, as the file system has it
    ctime     INTEGER NOT NULL,
    title     INTEGER NOT NULL REFERENCES titles (id),
    season    INTEGER NOT NULL,
    episode   INTEGER NOT NULL,
    part      TEXT NOT NULL,
    content   TEXT NOT NULL,             -- video, audio, picture
    duration  REAL NOT NULL,             -- seconds; 0 where not known
    info      TEXT NOT NULL,             -- what it holds, as JSON; empty where not opened
    problem   TEXT NOT NULL,             -- why it cannot be read; empty where it can
    note      TEXT NOT NULL,             -- how its name was read, where that was unclear
    added     INTEGER NOT NULL,
    gone      INTEGER NOT NULL DEFAULT 0, -- when it was found missing; 0 while it is there
    UNIQUE (folder, name)
) STRICT;
CREATE INDEX files_title ON files (title);
CREATE INDEX files_problem ON files (folder) WHERE problem != '';

CREATE TABLE positions (
    member   INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    file     INTEGER NOT NULL REFERENCES files (id),
    position REAL NOT NULL,
    updated  INTEGER NOT NULL,
    PRIMARY KEY (member, file)
) STRICT, WITHOUT ROWID;

-- A play keeps names, not references: history stays when a member or a file goes.
CREATE TABLE plays (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    member    TEXT NOT NULL,
    shelf     TEXT NOT NULL,
    title     TEXT NOT NULL,
    part      TEXT NOT NULL,
    file      INTEGER NOT NULL,
    device    TEXT NOT NULL,
    device_id INTEGER NOT NULL,
    address   TEXT NOT NULL,
    away      INTEGER NOT NULL,
    started   INTEGER NOT NULL,
    seen      INTEGER NOT NULL,
    ended     INTEGER NOT NULL DEFAULT 0, -- 0 while the stream goes on
    from_pos  REAL NOT NULL,
    position  REAL NOT NULL,
    duration  REAL NOT NULL,
    watched   REAL NOT NULL,
    bytes     INTEGER NOT NULL,
    done      INTEGER NOT NULL
) STRICT;
CREATE INDEX plays_started ON plays (started);
CREATE INDEX plays_open ON plays (device_id, file, seen);

-- +goose Down
DROP TABLE plays;
DROP TABLE positions;
DROP TABLE files;
DROP TABLE titles;
DROP TABLE folders;
DROP TABLE devices;
DROP TABLE members;
