-- +goose Up

-- Arrivals are looked up by feed and path, or by feed and content, once for each
-- file. The two are one expression each, so that no other index can be taken for
-- it: many begin with the feed, and of a feed that is newer than the table's
-- statistics the planner believes that it has hardly any arrivals.
DROP INDEX arrival_by_path, arrival_by_digest;
CREATE INDEX arrival_by_path ON arrival ((feed || ' ' || path), id);
CREATE INDEX arrival_by_digest ON arrival ((feed || ' ' || sha256)) WHERE state = 'loaded';

-- +goose Down
DROP INDEX arrival_by_path, arrival_by_digest;
CREATE INDEX arrival_by_path ON arrival (feed, path, id);
CREATE INDEX arrival_by_digest ON arrival (feed, sha256) WHERE state = 'loaded';
