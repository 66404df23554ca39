-- +goose Up

-- A service holds its feeds by one lease, which it renews in one row, however
-- many they are.
ALTER TABLE service ADD COLUMN lease_until timestamptz NOT NULL DEFAULT '-infinity';
ALTER TABLE feed DROP COLUMN lease_until,
    ADD COLUMN listed_only boolean NOT NULL DEFAULT false,
    -- What feeds are looked for by; described is the version that it was taken from.
    ADD COLUMN supplier text NOT NULL DEFAULT '',
    ADD COLUMN folder text NOT NULL DEFAULT '',
    ADD COLUMN target text NOT NULL DEFAULT '',
    ADD COLUMN has_due boolean NOT NULL DEFAULT false,
    ADD COLUMN described integer NOT NULL DEFAULT 0;
UPDATE feed SET lease_holder = NULL;
CREATE INDEX feed_by_holder ON feed (lease_holder) WHERE removed_at IS NULL;
CREATE INDEX feed_by_target ON feed (target) WHERE removed_at IS NULL;
CREATE INDEX feed_problems ON feed (name) WHERE removed_at IS NULL AND problem <> '';

-- Events are written and announced in one call. The lock puts them in order: the
-- event that is committed later has the greater number.
-- +goose StatementBegin
CREATE FUNCTION tell(events jsonb) RETURNS void LANGUAGE plpgsql STRICT AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(30809880996964719);
    INSERT INTO mullein_records.event (kind, feed, arrival, run, state)
        SELECT kind, feed, arrival, run, state FROM jsonb_to_recordset(events) AS e(kind text, feed text, arrival bigint, run bigint, state text);
    PERFORM pg_notify('mullein_event', '');
END $$;
-- +goose StatementEnd

-- What is told of an arrival, or of a run.
CREATE FUNCTION event_of(kind text, feed text, arrival bigint, run bigint, state text) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT jsonb_build_object('kind', kind, 'feed', feed, 'arrival', coalesce(arrival, 0), 'run', coalesce(run, 0), 'state', state)
$$;

-- A run may be narrowed to many files: more than an index takes as they are.
DROP INDEX run_queued_once;
CREATE UNIQUE INDEX run_queued_once ON run (feed, md5(wanted::text)) WHERE state = 'queued';
CREATE INDEX run_unfinished ON run (feed) WHERE state IN ('queued', 'running');

-- The calendar looks at all feeds of a service together.
CREATE INDEX slot_due_turns ON slot (turn_at) WHERE turn_at IS NOT NULL;

-- What is too old is looked for by its time, and what refers to it by number.
CREATE INDEX arrival_loading ON arrival (feed) WHERE state = 'loading';
CREATE INDEX slot_by_time ON slot (due_at);
CREATE INDEX arrival_by_copy_of ON arrival (copy_of) WHERE copy_of IS NOT NULL;

-- +goose Down
DROP INDEX arrival_loading, arrival_by_copy_of, slot_by_time, slot_due_turns, run_unfinished, run_queued_once, feed_problems, feed_by_target, feed_by_holder;
CREATE UNIQUE INDEX run_queued_once ON run (feed, wanted) WHERE state = 'queued';
DROP FUNCTION tell(jsonb);
DROP FUNCTION event_of(text, text, bigint, bigint, text);
ALTER TABLE feed DROP COLUMN listed_only, DROP COLUMN supplier, DROP COLUMN folder, DROP COLUMN target, DROP COLUMN has_due, DROP COLUMN described, ADD COLUMN lease_until timestamptz;
ALTER TABLE service DROP COLUMN lease_until;
