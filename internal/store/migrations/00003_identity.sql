-- +goose Up
-- What a file is known again by when it was moved or renamed, and more of what its
-- name says. Files that are known get theirs with the next scan.
ALTER TABLE files ADD COLUMN inode INTEGER NOT NULL DEFAULT 0;
ALTER TABLE files ADD COLUMN fingerprint BLOB NOT NULL DEFAULT x'';  -- of its size and its beginning; empty where it was not read
ALTER TABLE files ADD COLUMN last INTEGER NOT NULL DEFAULT 0;        -- the last of several episodes in one file
ALTER TABLE files ADD COLUMN disc INTEGER NOT NULL DEFAULT 0;
ALTER TABLE files ADD COLUMN piece INTEGER NOT NULL DEFAULT 0;       -- of one film in several files
ALTER TABLE files ADD COLUMN date TEXT NOT NULL DEFAULT '';
ALTER TABLE files ADD COLUMN edition TEXT NOT NULL DEFAULT '';
ALTER TABLE files ADD COLUMN extra TEXT NOT NULL DEFAULT '';         -- what sort of extra; empty for the title itself
ALTER TABLE files ADD COLUMN outside TEXT NOT NULL DEFAULT '';       -- an outside id in its name
ALTER TABLE files ADD COLUMN beside TEXT NOT NULL DEFAULT '';        -- files that go with it, as JSON
ALTER TABLE folders ADD COLUMN samples INTEGER NOT NULL DEFAULT 0;   -- files in it that are left out
UPDATE folders SET signature = x'00' WHERE signature != x'';
CREATE INDEX files_same ON files (size, fingerprint, gone, inode) WHERE fingerprint != x'';

-- What is known of a title beside its name. Fields in edited were set by a person, and
-- are never overwritten.
CREATE TABLE descriptions (
    title    INTEGER PRIMARY KEY REFERENCES titles (id),
    name     TEXT NOT NULL DEFAULT '',   -- as it is shown; empty: as the files have it
    year     INTEGER NOT NULL DEFAULT 0,
    summary  TEXT NOT NULL DEFAULT '',
    people   TEXT NOT NULL DEFAULT '[]', -- [{"name", "role"}]
    genres   TEXT NOT NULL DEFAULT '[]',
    outside  TEXT NOT NULL DEFAULT '',   -- the outside id, such as "wikidata Q42"
    source   TEXT NOT NULL DEFAULT '',   -- sidecar, file, wikidata, musicbrainz, person
    picture  TEXT NOT NULL DEFAULT '',   -- name of a picture in the state folder
    picture_from TEXT NOT NULL DEFAULT '',
    edited   TEXT NOT NULL DEFAULT '[]',
    state    TEXT NOT NULL DEFAULT '',   -- taken, unclear, none (a person said that there is none), or empty
    looked   INTEGER NOT NULL DEFAULT 0, -- when it was looked up
    candidates TEXT NOT NULL DEFAULT '[]'
) STRICT;

-- Words to search for. The tables keep no texts of their own. What is new is added by the
-- scan, in one go for many, since a trigger for each would write the tables out each time;
-- triggers keep what changes right. Pieces of the index are put together eight at a time,
-- not four, which takes less of a first scan; sixteen would be put together in one go, and
-- keep others waiting. Beginnings of three letters are found without a list of their own.
CREATE VIRTUAL TABLE words USING fts5 (name, maker, people, summary, content = '', contentless_delete = 1, tokenize = 'unicode61 remove_diacritics 2', prefix = '1 2');
CREATE VIRTUAL TABLE parts USING fts5 (part, content = '', contentless_delete = 1, tokenize = 'unicode61 remove_diacritics 2', prefix = '1 2');
INSERT INTO words (words, rank) VALUES ('automerge', 8);
INSERT INTO parts (parts, rank) VALUES ('automerge', 8);
INSERT INTO words (rowid, name, maker, people, summary) SELECT id, name, maker, '', '' FROM titles;
INSERT INTO parts (rowid, part) SELECT id, part FROM files WHERE part != '';

-- +goose StatementBegin
CREATE TRIGGER titles_words_changed AFTER UPDATE OF name, maker ON titles WHEN old.name != new.name OR old.maker != new.maker BEGIN
    INSERT OR REPLACE INTO words (rowid, name, maker, people, summary)
        SELECT new.id, new.name || ' ' || coalesce(d.name, ''), new.maker, coalesce((SELECT group_concat(json_extract(value, '$.name'), ' ') FROM json_each(d.people)), ''), coalesce(d.summary, '')
        FROM (SELECT 1) LEFT JOIN descriptions d ON d.title = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER descriptions_words AFTER INSERT ON descriptions WHEN new.name != '' OR new.people != '[]' OR new.summary != '' BEGIN
    INSERT OR REPLACE INTO words (rowid, name, maker, people, summary)
        SELECT t.id, t.name || ' ' || new.name, t.maker, coalesce((SELECT group_concat(json_extract(value, '$.name'), ' ') FROM json_each(new.people)), ''), new.summary FROM titles t WHERE t.id = new.title;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER descriptions_words_changed AFTER UPDATE OF name, people, summary ON descriptions WHEN old.name != new.name OR old.people != new.people OR old.summary != new.summary BEGIN
    INSERT OR REPLACE INTO words (rowid, name, maker, people, summary)
        SELECT t.id, t.name || ' ' || new.name, t.maker, coalesce((SELECT group_concat(json_extract(value, '$.name'), ' ') FROM json_each(new.people)), ''), new.summary FROM titles t WHERE t.id = new.title;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER files_parts_changed AFTER UPDATE OF part ON files WHEN old.part != new.part BEGIN
    INSERT OR REPLACE INTO parts (rowid, part) VALUES (new.id, new.part);
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER titles_words_changed;
DROP TRIGGER files_parts_changed;
DROP TABLE descriptions;
DROP TABLE words;
DROP TABLE parts;
ALTER TABLE folders DROP COLUMN samples;
DROP INDEX files_same;
ALTER TABLE files DROP COLUMN inode;
ALTER TABLE files DROP COLUMN fingerprint;
ALTER TABLE files DROP COLUMN last;
ALTER TABLE files DROP COLUMN disc;
ALTER TABLE files DROP COLUMN piece;
ALTER TABLE files DROP COLUMN date;
ALTER TABLE files DROP COLUMN edition;
ALTER TABLE files DROP COLUMN extra;
ALTER TABLE files DROP COLUMN outside;
ALTER TABLE files DROP COLUMN beside;
