-- +goose Up
-- An event of a rollup says of which, and how many keys were computed. Services of the version before go on to call
-- tell without them.
ALTER TABLE event
    ADD COLUMN rollup text NOT NULL DEFAULT '',
    ADD COLUMN keys bigint NOT NULL DEFAULT 0;

-- +goose StatementBegin
CREATE OR REPLACE FUNCTION tell(events jsonb) RETURNS void LANGUAGE plpgsql STRICT AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(30809880996964719);
    INSERT INTO mullein_records.event (kind, feed, arrival, run, slot, state, rollup, keys)
        SELECT kind, feed, arrival, run, coalesce(slot, 0), state, coalesce(rollup, ''), coalesce(keys, 0)
        FROM jsonb_to_recordset(events) AS e(kind text, feed text, arrival bigint, run bigint, slot bigint, state text, rollup text, keys bigint);
    PERFORM pg_notify('mullein_event', '');
END $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION tell(events jsonb) RETURNS void LANGUAGE plpgsql STRICT AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(30809880996964719);
    INSERT INTO mullein_records.event (kind, feed, arrival, run, slot, state)
        SELECT kind, feed, arrival, run, coalesce(slot, 0), state FROM jsonb_to_recordset(events) AS e(kind text, feed text, arrival bigint, run bigint, slot bigint, state text);
    PERFORM pg_notify('mullein_event', '');
END $$;
-- +goose StatementEnd
ALTER TABLE event DROP COLUMN rollup, DROP COLUMN keys;
