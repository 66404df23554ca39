-- +goose Up
-- The change time of files, which tells one that was rewritten in its place with the size
-- and the time that it had. NULL where it is not known.
ALTER TABLE arrival ADD COLUMN changed timestamptz;

-- +goose Down
ALTER TABLE arrival DROP COLUMN changed;
