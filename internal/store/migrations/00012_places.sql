-- +goose Up
-- Where a device was used last, from which networks outside the home it is known, and whether its member
-- has been told of it. Those that are there are known.
ALTER TABLE devices ADD COLUMN address TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN away INTEGER NOT NULL DEFAULT 0;
ALTER TABLE devices ADD COLUMN networks TEXT NOT NULL DEFAULT ''; -- with spaces between, the latest last
ALTER TABLE devices ADD COLUMN told INTEGER NOT NULL DEFAULT 0;
UPDATE devices SET told = 1;

-- +goose Down
ALTER TABLE devices DROP COLUMN told;
ALTER TABLE devices DROP COLUMN networks;
ALTER TABLE devices DROP COLUMN away;
ALTER TABLE devices DROP COLUMN address;
