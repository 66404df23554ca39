-- +goose Up

-- What the value of a check had to lie between, so that it is drawn beside it.
ALTER TABLE check_result ADD COLUMN low double precision, ADD COLUMN high double precision;
-- What chains are drawn from, so that not each feed file is read for them. It is taken from the feed files anew.
ALTER TABLE feed ADD COLUMN connection text NOT NULL DEFAULT '', ADD COLUMN comes_after jsonb NOT NULL DEFAULT '[]';
UPDATE feed SET described = 0;
-- Rejects are looked for among the arrivals that have any.
CREATE INDEX arrival_with_rejects ON arrival (finished_at) WHERE (balance->>'rejected')::bigint > 0;
ANALYZE arrival;

-- +goose Down
DROP INDEX arrival_with_rejects;
ALTER TABLE feed DROP COLUMN connection, DROP COLUMN comes_after;
ALTER TABLE check_result DROP COLUMN low, DROP COLUMN high;
