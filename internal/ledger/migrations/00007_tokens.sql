-- +goose Up
-- Tokens can be named and ended. One that was ended stays on record, so that it is not
-- taken up again; what was signed in with it ends with it.
ALTER TABLE token
    ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY,
    ADD COLUMN parent bigint,
    ADD COLUMN ended_at timestamptz;
CREATE UNIQUE INDEX token_by_number ON token (id);
CREATE INDEX token_by_parent ON token (parent) WHERE parent IS NOT NULL;

-- +goose Down
ALTER TABLE token DROP COLUMN id, DROP COLUMN parent, DROP COLUMN ended_at;
