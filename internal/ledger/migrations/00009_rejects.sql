-- +goose Up
-- How many rejects of an arrival are not kept, by what they broke: [{rule, column, reason, count}].
ALTER TABLE arrival ADD COLUMN more_rejects jsonb;

-- +goose Down
ALTER TABLE arrival DROP COLUMN more_rejects;
