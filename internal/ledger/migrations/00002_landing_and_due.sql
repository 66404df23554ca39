-- +goose Up
ALTER TABLE arrival
    ADD delivery    text NOT NULL DEFAULT '',
    ADD is_list     boolean NOT NULL DEFAULT false,
    ADD slot_number bigint,
    ADD forced      boolean NOT NULL DEFAULT false,
    ADD backlog     boolean NOT NULL DEFAULT false,
    ADD due_slot    bigint,
    ADD came_at     timestamptz,
    ADD away        text NOT NULL DEFAULT '',
    ADD away_to     text NOT NULL DEFAULT '';

UPDATE arrival SET came_at = noticed_at;
DROP INDEX arrival_waiting, arrival_by_time, arrival_by_state, arrival_by_size;
CREATE INDEX arrival_by_state ON arrival (state, id) WHERE state IN ('refused', 'failed', 'skipped', 'held', 'gone', 'recalled');
CREATE INDEX arrival_by_size ON arrival (feed, size) WHERE state = 'loaded';
CREATE INDEX arrival_waiting ON arrival (feed, slot, slot_number, modified, path, id) WHERE state IN ('ready', 'failed');
CREATE INDEX arrival_pending ON arrival (feed, id) WHERE state IN ('noticed', 'settling', 'ready', 'loading');
CREATE INDEX arrival_by_digest ON arrival (feed, sha256) WHERE state = 'loaded';
CREATE INDEX arrival_loaded ON arrival (feed, finished_at) WHERE state = 'loaded';
CREATE INDEX arrival_wrong ON arrival (feed, id) WHERE state IN ('refused', 'held', 'failed');
CREATE INDEX arrival_to_put_away ON arrival (feed, id) WHERE away = 'wanted';
CREATE INDEX arrival_by_slot ON arrival (feed, slot);
CREATE INDEX arrival_by_due_slot ON arrival (due_slot) WHERE due_slot IS NOT NULL;
CREATE INDEX arrival_by_time ON arrival (feed, noticed_at);

ALTER TABLE feed
    ADD fired_at   timestamptz,
    ADD after_seen jsonb NOT NULL DEFAULT '{}',
    ADD loads      bigint NOT NULL DEFAULT 0,
    ADD due_from   timestamptz,
    ADD due_after  bigint NOT NULL DEFAULT 0,
    ADD waits      text NOT NULL DEFAULT '';

ALTER TABLE run
    ADD wanted     jsonb NOT NULL DEFAULT '{}',
    ADD told       jsonb NOT NULL DEFAULT '{}',
    ADD cancel_by  text NOT NULL DEFAULT '';
DROP INDEX run_queued_once;
CREATE UNIQUE INDEX run_queued_once ON run (feed, wanted) WHERE state = 'queued';
CREATE INDEX run_queued ON run (feed, id) WHERE state = 'queued';

ALTER TABLE service
    ADD doing jsonb NOT NULL DEFAULT '[]';

-- What people decided, with their reasons.
CREATE TABLE decision (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    by      text NOT NULL,
    what    text NOT NULL,
    because text NOT NULL,
    feed    text NOT NULL,
    arrival bigint,
    slot    bigint
);
CREATE INDEX decision_by_arrival ON decision (arrival, id);
CREATE INDEX decision_by_slot ON decision (slot, id);

CREATE TABLE slot (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    feed        text NOT NULL REFERENCES feed,
    due_at      timestamptz NOT NULL,
    name_at     timestamptz,
    per         jsonb NOT NULL,
    per_key     text NOT NULL,
    state       text NOT NULL,
    files       integer NOT NULL,
    came        integer NOT NULL DEFAULT 0,
    surplus     integer NOT NULL DEFAULT 0,
    late_at     timestamptz NOT NULL,
    missing_at  timestamptz NOT NULL,
    complete_at timestamptz,
    turn_at     timestamptz,
    changed_at  timestamptz NOT NULL DEFAULT now(),
    near        jsonb NOT NULL DEFAULT '[]',
    UNIQUE (feed, due_at, per_key)
);
CREATE INDEX slot_turns ON slot (feed, turn_at) WHERE turn_at IS NOT NULL;
CREATE INDEX slot_wrong ON slot (feed, due_at) WHERE state IN ('missing', 'refused') OR state = 'late' AND complete_at IS NULL;

-- How many arrivals of a feed are in a state: the sum of n. Changes are only
-- ever added, so nobody waits for anybody; they are summed up now and then.
CREATE TABLE tally (
    feed  text NOT NULL,
    state text NOT NULL,
    n     bigint NOT NULL
);
CREATE INDEX tally_by_feed ON tally (feed);
INSERT INTO tally SELECT feed, state, count(*) FROM arrival GROUP BY feed, state;

-- +goose StatementBegin
CREATE FUNCTION tally_arrivals() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'INSERT' THEN
        INSERT INTO mullein_records.tally SELECT feed, state, count(*) FROM new_rows GROUP BY feed, state;
    ELSE
        INSERT INTO mullein_records.tally SELECT feed, state, sum(n) FROM (
            SELECT feed, state, 1 AS n FROM new_rows UNION ALL SELECT feed, state, -1 FROM old_rows) c
        GROUP BY feed, state HAVING sum(n) <> 0;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER tally_new AFTER INSERT ON arrival REFERENCING NEW TABLE AS new_rows FOR EACH STATEMENT EXECUTE FUNCTION tally_arrivals();
CREATE TRIGGER tally_changed AFTER UPDATE ON arrival REFERENCING NEW TABLE AS new_rows OLD TABLE AS old_rows FOR EACH STATEMENT EXECUTE FUNCTION tally_arrivals();

-- Work done, by the hour in which it ended.
CREATE TABLE volume (
    feed    text NOT NULL,
    hour    timestamptz NOT NULL,
    files   bigint NOT NULL,
    bytes   bigint NOT NULL,
    read    bigint NOT NULL,
    written bigint NOT NULL,
    seconds double precision NOT NULL,
    PRIMARY KEY (feed, hour)
);
INSERT INTO volume SELECT feed, date_trunc('hour', finished_at), count(*), sum(size), sum((balance->>'read')::bigint),
    sum((balance->>'inserted')::bigint + (balance->>'updated')::bigint), coalesce(sum(extract(epoch FROM finished_at - opened_at)), 0)
    FROM arrival WHERE state = 'loaded' AND finished_at IS NOT NULL GROUP BY 1, 2;

-- +goose Down
DROP TABLE volume, tally, slot, decision;
DROP FUNCTION tally_arrivals CASCADE;
