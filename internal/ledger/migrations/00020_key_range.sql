-- +goose Up
-- The least and the greatest value of each column of the key among the rows of a load, for the programs that are told of
-- it. Services of the version before leave it empty.
ALTER TABLE arrival ADD COLUMN key_range jsonb;

-- +goose Down
ALTER TABLE arrival DROP COLUMN key_range;
