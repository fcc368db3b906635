//go:build tools

package internal

import (
	_ "github.com/ProtonMail/go-crypto/openpgp"
	_ "github.com/chromedp/chromedp"
	_ "github.com/crillab/gophersat/solver"
	_ "github.com/gin-gonic/gin"
	_ "github.com/glebarez/sqlite"
	_ "github.com/prometheus/client_golang/prometheus/promhttp"
	_ "github.com/robfig/cron/v3"
	_ "github.com/spf13/cobra"
	_ "github.com/vbauerster/mpb/v8"
	_ "go.yaml.in/yaml/v3"
	_ "golang.org/x/crypto/argon2"
	_ "golang.org/x/mod/sumdb/note"
	_ "golang.org/x/mod/sumdb/tlog"
	_ "golang.org/x/sync/errgroup"
	_ "golang.org/x/sys/unix"
	_ "golang.org/x/term"
	_ "golang.org/x/time/rate"
	_ "gorm.io/gorm"
	_ "modernc.org/sqlite"
)
