-- +goose Up

-- Who answers for a feed, as its feed file says, so that people find their own. It is taken from the feed files anew.
ALTER TABLE feed ADD COLUMN owner text NOT NULL DEFAULT '';
UPDATE feed SET described = 0;
CREATE INDEX ON decision (at);

-- +goose Down
DROP INDEX decision_at_idx;
ALTER TABLE feed DROP COLUMN owner;
