-- +goose Up

-- What a token lets its holder do, of which feeds (all where there are no patterns), whether data are shown to it, and
-- when it was used last.
ALTER TABLE token
    ADD COLUMN role text NOT NULL DEFAULT 'own',
    ADD COLUMN feeds jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN data boolean NOT NULL DEFAULT true,
    ADD COLUMN last_used_at timestamptz;

-- What people and programs did.
CREATE TABLE act (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    by      text NOT NULL,
    way     text NOT NULL,
    came    text NOT NULL,
    what    text NOT NULL,
    feed    text NOT NULL,
    of      text NOT NULL,
    because text NOT NULL,
    before  text NOT NULL,
    after   text NOT NULL,
    status  integer NOT NULL
);
CREATE INDEX act_by_feed ON act (feed, id);

-- +goose Down
DROP TABLE act;
ALTER TABLE token DROP COLUMN role, DROP COLUMN feeds, DROP COLUMN data, DROP COLUMN last_used_at;
