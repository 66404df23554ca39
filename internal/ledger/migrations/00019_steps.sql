-- +goose Up
-- How long files settled and waited for their turn; and volumes by month of UTC, for months that are over.
ALTER TABLE volume
    ADD COLUMN settle_seconds double precision NOT NULL DEFAULT 0,
    ADD COLUMN wait_seconds double precision NOT NULL DEFAULT 0;
ALTER TABLE volume_day
    ADD COLUMN settle_seconds double precision NOT NULL DEFAULT 0,
    ADD COLUMN wait_seconds double precision NOT NULL DEFAULT 0;
CREATE TABLE volume_month (LIKE volume_day INCLUDING DEFAULTS);
ALTER TABLE volume_month RENAME COLUMN day TO month;
ALTER TABLE volume_month ADD PRIMARY KEY (month, feed);

-- +goose Down
DROP TABLE volume_month;
ALTER TABLE volume DROP COLUMN settle_seconds, DROP COLUMN wait_seconds;
ALTER TABLE volume_day DROP COLUMN settle_seconds, DROP COLUMN wait_seconds;
