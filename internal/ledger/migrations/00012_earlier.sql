-- +goose Up
-- The steps of an arrival's earlier generations, the oldest first.
ALTER TABLE arrival ADD COLUMN earlier jsonb;

-- +goose Down
ALTER TABLE arrival DROP COLUMN earlier;
