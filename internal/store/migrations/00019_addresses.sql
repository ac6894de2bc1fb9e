-- +goose Up
-- Plays whose address is whole: it is cut to its network after a while.
CREATE INDEX plays_whole_address ON plays (ended) WHERE address != '' AND instr(address, '/') = 0;

-- +goose Down
DROP INDEX plays_whole_address;
