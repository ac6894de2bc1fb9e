-- +goose Up
-- When a device was last new, or in a new network; 0 for those that are known.
ALTER TABLE devices ADD COLUMN moved INTEGER NOT NULL DEFAULT 0;
-- Up to when an administrator has heard of such devices of others; 0 for whoever does not want to.
ALTER TABLE members ADD COLUMN hears INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE members DROP COLUMN hears;
ALTER TABLE devices DROP COLUMN moved;
