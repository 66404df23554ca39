-- +goose Up

-- A reject says which characters of its row are the cell at fault.
ALTER TABLE reject DROP COLUMN cell,
    ADD COLUMN mark_from integer NOT NULL DEFAULT 0,
    ADD COLUMN mark_to integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE reject DROP COLUMN mark_from, DROP COLUMN mark_to,
    ADD COLUMN cell integer NOT NULL DEFAULT 0;
