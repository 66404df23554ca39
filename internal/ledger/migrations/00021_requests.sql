-- +goose Up
-- How many requests were made of places for a feed.
ALTER TABLE volume ADD COLUMN requests bigint NOT NULL DEFAULT 0,
    ALTER COLUMN files SET DEFAULT 0, ALTER COLUMN bytes SET DEFAULT 0, ALTER COLUMN read SET DEFAULT 0,
    ALTER COLUMN written SET DEFAULT 0, ALTER COLUMN seconds SET DEFAULT 0;
ALTER TABLE volume_day ADD COLUMN requests bigint NOT NULL DEFAULT 0;
ALTER TABLE volume_month ADD COLUMN requests bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE volume DROP COLUMN requests, ALTER COLUMN files DROP DEFAULT, ALTER COLUMN bytes DROP DEFAULT,
    ALTER COLUMN read DROP DEFAULT, ALTER COLUMN written DROP DEFAULT, ALTER COLUMN seconds DROP DEFAULT;
ALTER TABLE volume_day DROP COLUMN requests;
ALTER TABLE volume_month DROP COLUMN requests;
