-- +goose Up
-- How long files settled and waited for their turn.
ALTER TABLE volume
    ADD COLUMN settle_seconds double precision NOT NULL DEFAULT 0,
    ADD COLUMN wait_seconds double precision NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE volume DROP COLUMN settle_seconds, DROP COLUMN wait_seconds;
