-- +goose Up
CREATE TABLE service (
    id          uuid PRIMARY KEY,
    name        text NOT NULL,
    started_at  timestamptz NOT NULL,
    seen_at     timestamptz NOT NULL
);

CREATE TABLE feed (
    name         text PRIMARY KEY,
    version      integer NOT NULL,
    paused       boolean NOT NULL DEFAULT false,
    removed_at   timestamptz,
    created_at   timestamptz NOT NULL DEFAULT now(),
    problem      text NOT NULL DEFAULT '',
    listed_at    timestamptz,
    fence        bigint NOT NULL DEFAULT 0,
    lease_holder uuid,
    lease_until  timestamptz
);

CREATE TABLE feed_version (
    feed       text NOT NULL REFERENCES feed,
    version    integer NOT NULL,
    definition text NOT NULL,
    put_at     timestamptz NOT NULL DEFAULT now(),
    put_by     text NOT NULL,
    PRIMARY KEY (feed, version)
);

CREATE TABLE run (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    feed        text NOT NULL REFERENCES feed,
    version     integer NOT NULL DEFAULT 0,
    cause       text NOT NULL,
    by          text NOT NULL,
    state       text NOT NULL,
    reason      text NOT NULL DEFAULT '',
    queued_at   timestamptz NOT NULL DEFAULT now(),
    started_at  timestamptz,
    finished_at timestamptz,
    loaded      bigint NOT NULL DEFAULT 0,
    refused     bigint NOT NULL DEFAULT 0,
    failed      bigint NOT NULL DEFAULT 0,
    skipped     bigint NOT NULL DEFAULT 0,
    balance     jsonb NOT NULL
);
CREATE INDEX run_by_feed ON run (feed, id);
CREATE UNIQUE INDEX run_queued_once ON run (feed) WHERE state = 'queued';
CREATE INDEX run_open ON run (state) WHERE state IN ('queued', 'running');

CREATE TABLE arrival (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    feed        text NOT NULL REFERENCES feed,
    path        text NOT NULL,
    size        bigint NOT NULL,
    modified    timestamptz NOT NULL,
    inode       bigint NOT NULL,
    sha256      text NOT NULL DEFAULT '',
    state       text NOT NULL,
    reason      text NOT NULL DEFAULT '',
    captures    jsonb NOT NULL,
    slot        timestamptz,
    version     integer NOT NULL DEFAULT 0,
    generation  integer NOT NULL DEFAULT 0,
    run_id      bigint REFERENCES run,
    copy_of     bigint REFERENCES arrival,
    attempts    integer NOT NULL DEFAULT 0,
    try_after   timestamptz,
    noticed_at  timestamptz NOT NULL DEFAULT now(),
    settling_at timestamptz,
    ready_at    timestamptz,
    opened_at   timestamptz,
    staged_at   timestamptz,
    finished_at timestamptz,
    balance     jsonb NOT NULL
);
CREATE INDEX arrival_by_feed ON arrival (feed, id);
CREATE INDEX arrival_by_state ON arrival (feed, state, id);
CREATE INDEX arrival_by_path ON arrival (feed, path, id);
CREATE INDEX arrival_by_size ON arrival (feed, size);
CREATE INDEX arrival_by_run ON arrival (run_id);
CREATE INDEX arrival_by_time ON arrival (noticed_at);
CREATE INDEX arrival_waiting ON arrival (feed, slot, modified, path) WHERE state IN ('ready', 'failed');

CREATE TABLE reject (
    arrival_id  bigint NOT NULL REFERENCES arrival ON DELETE CASCADE,
    number      integer NOT NULL,
    line        bigint NOT NULL,
    column_name text NOT NULL,
    reason      text NOT NULL,
    value       text NOT NULL,
    original    text NOT NULL,
    PRIMARY KEY (arrival_id, number)
);

CREATE TABLE event (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    kind    text NOT NULL,
    feed    text NOT NULL DEFAULT '',
    arrival bigint NOT NULL DEFAULT 0,
    run     bigint NOT NULL DEFAULT 0,
    state   text NOT NULL DEFAULT ''
);

CREATE TABLE token (
    hash       bytea PRIMARY KEY,
    name       text NOT NULL,
    use        text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz
);

-- +goose Down
DROP TABLE token, event, reject, arrival, run, feed_version, feed, service;
