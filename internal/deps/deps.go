//go:build deps

package deps

import (
	_ "cel.dev/cel-go/cel"
	_ "github.com/chromedp/chromedp"
	_ "github.com/danielgtaylor/huma/v2"
	_ "github.com/danielgtaylor/huma/v2/adapters/humagin"
	_ "github.com/fsnotify/fsnotify"
	_ "github.com/gin-gonic/gin"
	_ "github.com/goccy/go-yaml"
	_ "github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/pgxpool"
	_ "github.com/jackc/pgx/v5/stdlib"
	_ "github.com/pressly/goose/v3"
	_ "github.com/prometheus/client_golang/prometheus/promhttp"
	_ "github.com/robfig/cron/v3"
	_ "github.com/spf13/cobra"
	_ "github.com/spf13/viper"
	_ "golang.org/x/sys/unix"
	_ "golang.org/x/term"
	_ "gorm.io/driver/postgres"
	_ "gorm.io/gorm"
)
