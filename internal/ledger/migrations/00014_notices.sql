-- +goose Up

-- Of what kind the problem of a feed is, and of what besides the feed.
ALTER TABLE feed ADD COLUMN problem_kind text NOT NULL DEFAULT '', ADD COLUMN problem_of text NOT NULL DEFAULT '';

-- A problem is what is told as one: of a kind, with a cause. Its parts are what belongs to it.
CREATE TABLE problem (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind     text NOT NULL,
    cause    text NOT NULL,
    began_at timestamptz NOT NULL DEFAULT now(),
    over_at  timestamptz
);
CREATE UNIQUE INDEX problem_open ON problem (kind, cause) WHERE over_at IS NULL;

CREATE TABLE problem_part (
    problem bigint NOT NULL REFERENCES problem ON DELETE CASCADE,
    feed    text NOT NULL,
    arrival bigint NOT NULL,
    slot    bigint NOT NULL,
    what    text NOT NULL,
    since   timestamptz NOT NULL,
    over_at timestamptz,
    PRIMARY KEY (problem, feed, arrival, slot)
);
CREATE INDEX problem_part_open ON problem_part (feed) WHERE over_at IS NULL;

-- Who was told of a problem, how often, and of how many parts.
CREATE TABLE told (
    problem bigint NOT NULL REFERENCES problem ON DELETE CASCADE,
    outlet  text NOT NULL,
    whom    text NOT NULL,
    times   integer NOT NULL,
    at      timestamptz NOT NULL,
    PRIMARY KEY (problem, outlet, whom)
);

-- A notice is written with the news that it tells, and sent afterwards, in order of each feed and outlet.
CREATE TABLE notice (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at        timestamptz NOT NULL DEFAULT now(),
    outlet    text NOT NULL,
    whom      text NOT NULL,
    kind      text NOT NULL,
    occasion  text NOT NULL,
    problem   bigint,
    feed      text NOT NULL,
    subject   text NOT NULL,
    message   jsonb NOT NULL,
    state     text NOT NULL DEFAULT 'waiting',
    attempts  integer NOT NULL DEFAULT 0,
    try_after timestamptz NOT NULL DEFAULT now(),
    sent_at   timestamptz,
    answer    text NOT NULL DEFAULT ''
);
CREATE INDEX notice_waiting ON notice (outlet, id) WHERE state = 'waiting';
CREATE INDEX notice_by_feed ON notice (feed, id);
CREATE INDEX notice_by_state ON notice (state, id);

-- One service tells, until its time is over, and has told of the events and decisions up to these.
CREATE TABLE teller (
    sole     boolean PRIMARY KEY DEFAULT true CHECK (sole),
    holder   uuid,
    until    timestamptz NOT NULL DEFAULT '-infinity',
    event    bigint NOT NULL,
    decision bigint NOT NULL
);
INSERT INTO teller (event, decision)
    SELECT (SELECT coalesce(max(id), 0) FROM event), (SELECT coalesce(max(id), 0) FROM decision);

-- For which day each outlet has its summary.
CREATE TABLE summary (
    outlet text PRIMARY KEY,
    day    date NOT NULL
);

-- +goose Down
DROP TABLE summary, teller, notice, told, problem_part, problem;
ALTER TABLE feed DROP COLUMN problem_kind, DROP COLUMN problem_of;
