-- +goose Up

-- What became of rows, how many files were refused, how long the database worked, and, as counts of files by powers of
-- two of seconds, how long files took from their coming to being visible, and how late they came for their slots.
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
    ADD COLUMN lag        integer[] NOT NULL DEFAULT '{}',
    ADD COLUMN late       integer[] NOT NULL DEFAULT '{}';
CREATE INDEX volume_by_hour ON volume (hour);

-- The same by day, for the years beyond.
CREATE TABLE volume_day (LIKE volume INCLUDING DEFAULTS);
ALTER TABLE volume_day RENAME COLUMN hour TO day;
ALTER TABLE volume_day ADD PRIMARY KEY (feed, day);
CREATE INDEX volume_day_by_day ON volume_day (day);

-- +goose StatementBegin
CREATE FUNCTION add_counts(a integer[], b integer[]) RETURNS integer[] LANGUAGE sql IMMUTABLE AS $$
    SELECT coalesce(array_agg(coalesce(x, 0) + coalesce(y, 0) ORDER BY n), '{}')
    FROM unnest(a, b) WITH ORDINALITY AS c(x, y, n)
$$;
-- +goose StatementEnd
CREATE AGGREGATE sum_counts(integer[]) (SFUNC = add_counts, STYPE = integer[], INITCOND = '{}');

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
DROP AGGREGATE sum_counts(integer[]);
DROP FUNCTION add_counts(integer[], integer[]);
DROP INDEX volume_by_hour;
ALTER TABLE volume DROP COLUMN refused, DROP COLUMN inserted, DROP COLUMN updated, DROP COLUMN unchanged, DROP COLUMN outdated,
    DROP COLUMN kept, DROP COLUMN deleted, DROP COLUMN duplicate, DROP COLUMN rejected, DROP COLUMN left_out, DROP COLUMN withheld,
    DROP COLUMN removed, DROP COLUMN db_seconds, DROP COLUMN lag, DROP COLUMN late;
