-- +goose Up
-- How a play was delivered, and why.
ALTER TABLE plays ADD COLUMN delivery TEXT NOT NULL DEFAULT '';
ALTER TABLE plays ADD COLUMN why TEXT NOT NULL DEFAULT '';

-- Where the pieces of a film begin by which it is sent, so that it is looked through once.
CREATE TABLE pieces (
    file    INTEGER PRIMARY KEY REFERENCES files (id),
    size    INTEGER NOT NULL,
    mtime   INTEGER NOT NULL,
    found   BLOB NOT NULL                -- repack.Film as JSON, by gzip
) STRICT;

-- +goose Down
DROP TABLE pieces;
ALTER TABLE plays DROP COLUMN why;
ALTER TABLE plays DROP COLUMN delivery;
