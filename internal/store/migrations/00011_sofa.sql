-- +goose Up
-- Who watched a play beside the member whose device it was. Names stay when a member goes.
CREATE TABLE sofas (
    play   INTEGER NOT NULL REFERENCES plays (id) ON DELETE CASCADE,
    member INTEGER NOT NULL,             -- the id that the member had
    name   TEXT NOT NULL,
    folded TEXT NOT NULL,
    PRIMARY KEY (play, member)
) STRICT, WITHOUT ROWID;
CREATE INDEX sofas_folded ON sofas (folded, play);

-- +goose Down
DROP TABLE sofas;
