-- +goose Up
-- What a sign-in is for, a page or a program, and when it ends whatever happens: before,
-- it could be prolonged for ever. Those that are there are programs', with two years.
ALTER TABLE devices ADD COLUMN kind TEXT NOT NULL DEFAULT 'program';
ALTER TABLE devices ADD COLUMN ends INTEGER NOT NULL DEFAULT 0;
UPDATE devices SET kind = 'page' WHERE expires - seen < 40 * 86400000;
UPDATE devices SET ends = created + CASE kind WHEN 'page' THEN 180 ELSE 730 END * 86400000;

-- +goose Down
ALTER TABLE devices DROP COLUMN ends;
ALTER TABLE devices DROP COLUMN kind;
