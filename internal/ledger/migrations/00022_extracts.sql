-- +goose Up

-- An extract writes rows of a database as files into a landing. mark is how far it has come, as the database writes the value.
CREATE TABLE extract (
    name         text PRIMARY KEY,
    definition   text NOT NULL,
    version      integer NOT NULL DEFAULT 1,
    put_by       text NOT NULL,
    put_at       timestamptz NOT NULL DEFAULT now(),
    mark         text NOT NULL DEFAULT '',
    runs         bigint NOT NULL DEFAULT 0,
    paused       boolean NOT NULL DEFAULT false,
    wanted_by    text NOT NULL DEFAULT '',
    fired_at     timestamptz NOT NULL DEFAULT now(),
    after_seen   jsonb NOT NULL DEFAULT '{}',
    try_after    timestamptz,
    attempts     integer NOT NULL DEFAULT 0,
    problem      text NOT NULL DEFAULT '',
    problem_at   timestamptz,
    lease_holder uuid,
    fence        bigint NOT NULL DEFAULT 0
);

-- A window is one working of an extract: what it reads is fixed when it begins, and the mark moves when its files are whole.
CREATE TABLE extract_window (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    extract     text NOT NULL REFERENCES extract ON DELETE CASCADE,
    run         bigint NOT NULL,
    low         text NOT NULL,
    high        text NOT NULL,
    bounds      text NOT NULL,
    mark_before text NOT NULL,
    mark_after  text NOT NULL,
    end_text    text NOT NULL,
    end_at      timestamptz NOT NULL,
    state       text NOT NULL DEFAULT 'running',
    reason      text NOT NULL DEFAULT '',
    cause       text NOT NULL,
    "by"        text NOT NULL,
    source      bigint,
    rows        bigint NOT NULL DEFAULT 0,
    bytes       bigint NOT NULL DEFAULT 0,
    files       jsonb NOT NULL DEFAULT '[]',
    placed      integer NOT NULL DEFAULT 0,
    ahead       bigint NOT NULL DEFAULT 0,
    blank       bigint NOT NULL DEFAULT 0,
    attempts    integer NOT NULL DEFAULT 0,
    started_at  timestamptz NOT NULL DEFAULT now(),
    read_at     timestamptz,
    finished_at timestamptz,
    UNIQUE (extract, run)
);
CREATE UNIQUE INDEX extract_window_open ON extract_window (extract) WHERE state = 'running';

-- Of what extract an event is.
ALTER TABLE event ADD COLUMN extract text NOT NULL DEFAULT '';
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION tell(events jsonb) RETURNS void LANGUAGE plpgsql STRICT AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(30809880996964719);
    INSERT INTO mullein_records.event (kind, feed, arrival, run, slot, state, rollup, keys, extract)
        SELECT kind, feed, arrival, run, coalesce(slot, 0), state, coalesce(rollup, ''), coalesce(keys, 0), coalesce(extract, '')
        FROM jsonb_to_recordset(events) AS e(kind text, feed text, arrival bigint, run bigint, slot bigint, state text, rollup text, keys bigint, extract text);
    PERFORM pg_notify('mullein_event', '');
END $$;
-- +goose StatementEnd

-- +goose Down
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
ALTER TABLE event DROP COLUMN extract;
DROP TABLE extract_window, extract;
