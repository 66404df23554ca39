-- +goose Up
-- Which files that were put away the ledger knows of.
CREATE INDEX arrival_by_place ON arrival USING hash (away_to) WHERE away_to <> '';

-- +goose Down
DROP INDEX arrival_by_place;
