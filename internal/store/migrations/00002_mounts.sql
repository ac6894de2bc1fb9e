-- +goose Up
-- What was mounted below a shelf's folder when it was scanned: when that is no
-- longer mounted, an empty folder does not mean that all was deleted.
CREATE TABLE mounts (
    shelf TEXT NOT NULL,
    root  TEXT NOT NULL,
    path  TEXT NOT NULL, -- below the shelf's folder
    PRIMARY KEY (shelf, root, path)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE mounts;
