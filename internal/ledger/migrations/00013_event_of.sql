-- +goose Up
-- Called immutable while what it calls is stable, it was planned anew for each row.
CREATE OR REPLACE FUNCTION event_of(kind text, feed text, arrival bigint, run bigint, state text) RETURNS jsonb LANGUAGE sql STABLE AS $$
    SELECT jsonb_build_object('kind', kind, 'feed', feed, 'arrival', coalesce(arrival, 0), 'run', coalesce(run, 0), 'state', state)
$$;

-- +goose Down
CREATE OR REPLACE FUNCTION event_of(kind text, feed text, arrival bigint, run bigint, state text) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT jsonb_build_object('kind', kind, 'feed', feed, 'arrival', coalesce(arrival, 0), 'run', coalesce(run, 0), 'state', state)
$$;
