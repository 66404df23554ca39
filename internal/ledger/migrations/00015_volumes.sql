-- +goose Up

-- What became of rows, how many files were refused, how long the database worked, and, as counts of files by powers of
-- four of seconds, how long files took from their coming to being visible, and how late they came for their slots.
ALTER TABLE volume
    ADD COLUMN refused    bigint NOT NULL DEFAULT 0,
    ADD COLUMN inserted   bigint NOT NULL DEFAULT 0,
    ADD COLUMN updated    bigint NOT NULL DEFAULT 0,
    ADD COLUMN unchanged  bigint NOT NULL DEFAULT 0,
    ADD COLUMN outdated   bigint NOT NULL DEFAULT 0,
    ADD COLUMN kept       bigint NOT NULL DEFAULT 0,
    ADD COLUMN deleted    bigint NOT NULL DEFAULT 0,
    ADD COLUMN duplicate  bigint NOT NULL DEFAULT 0,
    ADD COLUMN rejected   bigint NOT NULL DEFAULT 0,
    ADD COLUMN left_out   bigint NOT NULL DEFAULT 0,
    ADD COLUMN withheld   bigint NOT NULL DEFAULT 0,
    ADD COLUMN removed    bigint NOT NULL DEFAULT 0,
    ADD COLUMN db_seconds double precision NOT NULL DEFAULT 0,
    ADD COLUMN lag_0 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_1 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_2 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_3 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_4 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_5 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_6 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_7 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_8 integer NOT NULL DEFAULT 0,
    ADD COLUMN lag_9 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_0 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_1 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_2 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_3 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_4 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_5 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_6 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_7 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_8 integer NOT NULL DEFAULT 0,
    ADD COLUMN late_9 integer NOT NULL DEFAULT 0;
CREATE INDEX volume_by_hour ON volume (hour);

-- The same by day of UTC, for days that are over: of each feed, and, without a name, of all together.
CREATE TABLE volume_day (LIKE volume INCLUDING DEFAULTS);
ALTER TABLE volume_day RENAME COLUMN hour TO day;
ALTER TABLE volume_day ADD PRIMARY KEY (feed, day);
CREATE INDEX volume_day_by_day ON volume_day (day);

-- What arrivals of before tell of their rows.
UPDATE volume v SET inserted = a.inserted, updated = a.updated, unchanged = a.unchanged, outdated = a.outdated, kept = a.kept,
    deleted = a.deleted, duplicate = a.duplicate, rejected = a.rejected, left_out = a.left_out, removed = a.removed
    FROM (SELECT feed, date_trunc('hour', finished_at) AS hour, sum((balance->>'inserted')::bigint) AS inserted,
        sum((balance->>'updated')::bigint) AS updated, sum((balance->>'unchanged')::bigint) AS unchanged,
        sum((balance->>'outdated')::bigint) AS outdated, sum((balance->>'kept')::bigint) AS kept,
        sum((balance->>'deleted')::bigint) AS deleted, sum((balance->>'duplicate')::bigint) AS duplicate,
        sum((balance->>'rejected')::bigint) AS rejected, sum((balance->>'left_out')::bigint) AS left_out,
        sum((balance->>'removed')::bigint) AS removed
        FROM arrival WHERE state = 'loaded' AND finished_at > now() - interval '90 days' GROUP BY 1, 2) a
    WHERE a.feed = v.feed AND a.hour = v.hour;

-- +goose Down
DROP TABLE volume_day;
DROP INDEX volume_by_hour;
ALTER TABLE volume DROP COLUMN refused, DROP COLUMN inserted, DROP COLUMN updated, DROP COLUMN unchanged, DROP COLUMN outdated,
    DROP COLUMN kept, DROP COLUMN deleted, DROP COLUMN duplicate, DROP COLUMN rejected, DROP COLUMN left_out,
    DROP COLUMN withheld, DROP COLUMN removed, DROP COLUMN db_seconds, DROP COLUMN lag_0, DROP COLUMN lag_1,
    DROP COLUMN lag_2, DROP COLUMN lag_3, DROP COLUMN lag_4, DROP COLUMN lag_5, DROP COLUMN lag_6,
    DROP COLUMN lag_7, DROP COLUMN lag_8, DROP COLUMN lag_9, DROP COLUMN late_0, DROP COLUMN late_1,
    DROP COLUMN late_2, DROP COLUMN late_3, DROP COLUMN late_4, DROP COLUMN late_5, DROP COLUMN late_6,
    DROP COLUMN late_7, DROP COLUMN late_8, DROP COLUMN late_9;
