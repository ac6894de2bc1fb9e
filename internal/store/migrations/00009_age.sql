-- +goose Up
-- From which age on a title is, in years. Titles are looked at again, so that those get one whose
-- sidecar or catalogue tells it.
ALTER TABLE descriptions ADD COLUMN age INTEGER;
UPDATE descriptions SET looked = 0 WHERE source = 'sidecar' OR state = 'taken';

-- Titles that are shown to a member whatever their age is, or hidden.
CREATE TABLE title_rules (
    member INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    title  INTEGER NOT NULL REFERENCES titles (id),
    shown  INTEGER NOT NULL,             -- 1, or 0: hidden
    PRIMARY KEY (member, title)
) STRICT, WITHOUT ROWID;

-- +goose Down
DROP TABLE title_rules;
ALTER TABLE descriptions DROP COLUMN age;
