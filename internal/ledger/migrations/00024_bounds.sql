-- +goose Up

-- What the value of a check had to lie between, so that it is drawn beside it.
ALTER TABLE check_result ADD COLUMN low double precision, ADD COLUMN high double precision;

-- +goose Down
ALTER TABLE check_result DROP COLUMN low, DROP COLUMN high;
