-- +goose Up
-- For how many days a member wants their plays to be kept; -1: as the household says.
ALTER TABLE members ADD COLUMN history INTEGER NOT NULL DEFAULT -1;

-- +goose Down
ALTER TABLE members DROP COLUMN history;
