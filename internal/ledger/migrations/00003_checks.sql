-- +goose Up

ALTER TABLE reject
    ADD COLUMN rule text NOT NULL DEFAULT '',
    ADD COLUMN cell integer NOT NULL DEFAULT 0,
    ADD COLUMN masked boolean NOT NULL DEFAULT false,
    ADD COLUMN mended_in bigint;

ALTER TABLE arrival
    ADD COLUMN waivable boolean NOT NULL DEFAULT false,
    ADD COLUMN waived boolean NOT NULL DEFAULT false,
    ADD COLUMN mends bigint REFERENCES arrival ON DELETE CASCADE,
    ADD COLUMN mended_lines jsonb,
    ADD COLUMN columns jsonb;
CREATE INDEX arrival_by_mends ON arrival (mends) WHERE mends IS NOT NULL;

CREATE TABLE check_result (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    feed       text NOT NULL,
    arrival_id bigint NOT NULL REFERENCES arrival ON DELETE CASCADE,
    name       text NOT NULL,
    scope      text NOT NULL,
    otherwise  text NOT NULL,
    held       boolean NOT NULL,
    saw        text NOT NULL,
    value      double precision,
    failed     bigint NOT NULL,
    at         timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX check_result_by_arrival ON check_result (arrival_id, id);
CREATE INDEX check_result_by_name ON check_result (feed, name, id);

-- +goose Down
DROP TABLE check_result;
ALTER TABLE arrival DROP COLUMN waivable, DROP COLUMN waived, DROP COLUMN mends, DROP COLUMN mended_lines, DROP COLUMN columns;
ALTER TABLE reject DROP COLUMN rule, DROP COLUMN cell, DROP COLUMN masked, DROP COLUMN mended_in;
