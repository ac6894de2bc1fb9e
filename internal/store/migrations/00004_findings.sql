-- +goose Up
-- What the work of quiet hours found out about files, and of which state of them, so that
-- it goes on where it was and looks again at what changed.
CREATE TABLE findings (
    file    INTEGER NOT NULL REFERENCES files (id),
    work    TEXT NOT NULL,               -- frames, chapters, loudness
    size    INTEGER NOT NULL,
    mtime   INTEGER NOT NULL,
    found   TEXT NOT NULL,               -- as JSON; empty where that could not be
    problem TEXT NOT NULL,               -- why
    at      INTEGER NOT NULL,
    PRIMARY KEY (file, work)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE findings;
