-- +goose Up

-- Users are tokens of the use user, whose secret nobody has: people sign in by a password, of which password is the
-- hash, or by an identity of elsewhere, subject. A session ends when it was not used for idle seconds.
ALTER TABLE token
    ADD COLUMN password text,
    ADD COLUMN subject text,
    ADD COLUMN idle double precision;
CREATE UNIQUE INDEX token_of_user ON token (name) WHERE use = 'user' AND ended_at IS NULL;
CREATE UNIQUE INDEX token_of_subject ON token (subject) WHERE use = 'user' AND ended_at IS NULL;

-- +goose Down
DROP INDEX token_of_user, token_of_subject;
ALTER TABLE token DROP COLUMN password, DROP COLUMN subject, DROP COLUMN idle;
