-- +goose Up

-- Arrivals of all feeds are narrowed to a time in a ledger of ten million, where nothing may be gone through.
CREATE INDEX arrival_by_clock ON arrival (noticed_at, id);
ANALYZE arrival;

-- +goose Down
DROP INDEX arrival_by_clock;
