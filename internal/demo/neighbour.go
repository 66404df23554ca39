package demo

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mullein/internal/client"
)

// neighbourConnection is what the settings call the neighbour's database.
const neighbourConnection = "neighbour"

// neighbourTable is where the neighbour keeps levels.
const neighbourTable = `CREATE SCHEMA IF NOT EXISTS gauges;
CREATE TABLE IF NOT EXISTS gauges.level (station text, measured_at timestamptz, level_m numeric(6,3), changed_at timestamptz NOT NULL DEFAULT now(),
	PRIMARY KEY (station, measured_at));
CREATE INDEX IF NOT EXISTS level_changed_at ON gauges.level (changed_at);`

// neighbourDatabase makes the neighbour's database on the server of another, with the levels of the last day, and returns its URL.
func neighbourDatabase(ctx context.Context, database string) (string, error) {
	u, err := url.Parse(database)
	if err != nil {
		return "", errors.New("the database's URL cannot be read")
	}
	const name = "neighbour"
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return "", err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	u.Path = "/" + name
	var said *pgconn.PgError
	const isThere, mayNot = "42P04", "42501"
	_, err = conn.Exec(ctx, "CREATE DATABASE "+name)
	switch {
	case err == nil:
	case errors.As(err, &said) && said.Code == isThere:
	case errors.As(err, &said) && said.Code == mayNot: // then the neighbour's table is beside others
		if u, err = url.Parse(database); err != nil {
			return "", err
		}
	default:
		return "", err
	}
	return u.String(), withNeighbour(ctx, u.String(), func(conn *pgx.Conn) error {
		if _, err := conn.Exec(ctx, neighbourTable); err != nil {
			return err
		}
		now := time.Now().UTC().Truncate(quarter)
		for at := now.AddDate(0, 0, -daysOfFiles); !at.After(now); at = at.Add(quarter) {
			if err := measured(ctx, conn, at, at); err != nil {
				return err
			}
		}
		return nil
	})
}

func withNeighbour(ctx context.Context, database string, do func(*pgx.Conn) error) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return do(conn)
}

// measured adds the levels of a time, where they are not there yet, as if they had come then.
func measured(ctx context.Context, conn *pgx.Conn, at, came time.Time) error {
	for station := 1; station <= stationsEach; station++ {
		level := 1.4 + 0.1*float64(station) + 0.6*math.Sin(float64(at.Unix())/20000+float64(station))
		if _, err := conn.Exec(ctx, "INSERT INTO gauges.level (station, measured_at, level_m, changed_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING",
			fmt.Sprintf("NB%02d", station), at, math.Round(level*1000)/1000, came); err != nil {
			return err
		}
	}
	return nil
}

// measure adds levels as their time comes, and corrects earlier ones, until ctx ends.
func measure(ctx context.Context, database string) error {
	err := withNeighbour(ctx, database, func(conn *pgx.Conn) error {
		for n := 1; ; n++ {
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(every):
			}
			if err := measured(ctx, conn, time.Now().UTC().Truncate(quarter), time.Now()); err != nil {
				return err
			}
			if _, err := conn.Exec(ctx, `UPDATE gauges.level SET level_m = level_m + 0.001, changed_at = now() WHERE (station, measured_at) IN
				(SELECT station, measured_at FROM gauges.level ORDER BY measured_at DESC, station LIMIT 1 OFFSET $1)`, n%500); err != nil {
				return err
			}
		}
	})
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// putNeighbour puts the extract of the neighbour's database and the feed that takes its files, and has it run once.
func putNeighbour(ctx context.Context, service *client.Client, root string) error {
	if err := os.MkdirAll(filepath.Join(root, "landing/neighbour"), 0o755); err != nil {
		return fmt.Errorf("make a landing: %w", err)
	}
	text, err := feeds.ReadFile("far/neighbour-levels.yaml")
	if err == nil {
		_, err = service.PutFeed(ctx, "neighbour-levels", "neighbour-levels.yaml", string(text))
	}
	if err == nil {
		text, err = feeds.ReadFile("far/neighbour-levels-out.yaml")
	}
	if err == nil {
		_, err = service.PutExtract(ctx, "neighbour-levels-out", "neighbour-levels-out.yaml", string(text))
	}
	if err == nil {
		err = service.RunExtract(ctx, "neighbour-levels-out")
	}
	return err
}
