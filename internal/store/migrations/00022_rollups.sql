-- +goose Up
-- Figures of plays that are over, by day, month and year of the household's clocks: of all (an empty scope), and of
-- each member who watched. They follow from the plays, and are made anew from them.
CREATE TABLE rollups (
    level INTEGER NOT NULL,              -- usage.Level
    scope TEXT NOT NULL,                 -- a member's name, folded; empty for all
    part  INTEGER NOT NULL,              -- usage.Parts
    at    INTEGER NOT NULL,              -- usage.Period
    sums  BLOB NOT NULL,                 -- usage.Sums
    PRIMARY KEY (level, scope, part, at)
) STRICT, WITHOUT ROWID;
CREATE INDEX rollups_at ON rollups (level, at);

-- The months and years, and all years before one, whose figures are kept.
CREATE TABLE rolled (
    level INTEGER NOT NULL,
    at    INTEGER NOT NULL,
    PRIMARY KEY (level, at)
) STRICT, WITHOUT ROWID;

-- The times of plays that were changed, from which figures are to be made anew.
CREATE TABLE unrolled (
    begins INTEGER NOT NULL,             -- in milliseconds
    ends   INTEGER NOT NULL,
    PRIMARY KEY (begins, ends)
) STRICT, WITHOUT ROWID;
INSERT INTO unrolled SELECT min(started), max(started) + 172800000 FROM plays HAVING count(*) > 0;

-- A play lasts for two days at most (usage.mostSpread).
-- +goose StatementBegin
CREATE TRIGGER plays_came AFTER INSERT ON plays WHEN NEW.ended != 0 BEGIN
    INSERT OR IGNORE INTO unrolled SELECT NEW.started,
        iif(NEW.ended BETWEEN NEW.started AND NEW.started + 172800000, NEW.ended, NEW.started + 172800000)
        WHERE NEW.ended != 0;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER plays_went AFTER DELETE ON plays WHEN OLD.ended != 0 BEGIN
    INSERT OR IGNORE INTO unrolled SELECT OLD.started,
        iif(OLD.ended BETWEEN OLD.started AND OLD.started + 172800000, OLD.ended, OLD.started + 172800000)
        WHERE OLD.ended != 0;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER plays_turned AFTER UPDATE OF member, shelf, title, part, device, away, started, ended, watched, bytes,
    done, delivery ON plays WHEN OLD.ended != 0 OR NEW.ended != 0 BEGIN
    INSERT OR IGNORE INTO unrolled SELECT OLD.started,
        iif(OLD.ended BETWEEN OLD.started AND OLD.started + 172800000, OLD.ended, OLD.started + 172800000)
        WHERE OLD.ended != 0;
    INSERT OR IGNORE INTO unrolled SELECT NEW.started,
        iif(NEW.ended BETWEEN NEW.started AND NEW.started + 172800000, NEW.ended, NEW.started + 172800000)
        WHERE NEW.ended != 0;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER sofas_came AFTER INSERT ON sofas BEGIN
    INSERT OR IGNORE INTO unrolled SELECT started,
        iif(ended BETWEEN started AND started + 172800000, ended, started + 172800000)
        FROM plays WHERE id = NEW.play AND ended != 0;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER sofas_went AFTER DELETE ON sofas BEGIN
    INSERT OR IGNORE INTO unrolled SELECT started,
        iif(ended BETWEEN started AND started + 172800000, ended, started + 172800000)
        FROM plays WHERE id = OLD.play AND ended != 0;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER sofas_turned AFTER UPDATE ON sofas BEGIN
    INSERT OR IGNORE INTO unrolled SELECT started,
        iif(ended BETWEEN started AND started + 172800000, ended, started + 172800000)
        FROM plays WHERE id = OLD.play AND ended != 0;
    INSERT OR IGNORE INTO unrolled SELECT started,
        iif(ended BETWEEN started AND started + 172800000, ended, started + 172800000)
        FROM plays WHERE id = NEW.play AND ended != 0;
END;
-- +goose StatementEnd

-- What is looked up beside them: streams that run, and plays that were converted.
CREATE INDEX plays_running ON plays (started) WHERE ended = 0;
CREATE INDEX plays_converted ON plays (started) WHERE delivery = 'converted';

-- +goose Down
DROP INDEX plays_converted;
DROP INDEX plays_running;
DROP TRIGGER sofas_turned;
DROP TRIGGER sofas_went;
DROP TRIGGER sofas_came;
DROP TRIGGER plays_turned;
DROP TRIGGER plays_went;
DROP TRIGGER plays_came;
DROP TABLE unrolled;
DROP TABLE rolled;
DROP TABLE rollups;
