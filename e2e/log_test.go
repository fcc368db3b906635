package e2e

import (
	"log/slog"
	"path/filepath"
	"strings"
	"testing"

	"stockade/internal/service"
)

// The log tells what was done, refused and moved, by whom, and no secrets.
func TestTheServiceLogsWhatItDoes(t *testing.T) {
	t.Parallel()
	log := &safeBuffer{}
	s := newSiteWith(t, func(cfg *service.Config) {
		cfg.Log = slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	})
	s.described()
	s.built("steady")
	s.cli(2, "lane", "move", "nowhere", "barrage/1")
	get(t, s.service.APIURL()+"/api/v1/sources?token=hidden-in-url", "Authorization", "Bearer hidden-token")
	get(t, s.service.PackagesURL()+"/lane/steady/tarn/dists/heron/InRelease")
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	s.stop()
	for _, want := range [][]string{
		{"service started", "site_key="},
		{"job started", "kind=build", `object="mirror barrage"`, "by=warden"},
		{"job ended", "kind=build", "state=done", "took="},
		{"msg=request", "path=/api/v1/lanes/steady/move", "status=200", "account=warden", "request="},
		{"level=WARN msg=request", "path=/api/v1/lanes/nowhere/move", "status=404", "why="},
		{"level=WARN msg=request", "path=/api/v1/sources", "status=400"},
		{"level=DEBUG msg=machine", "path=/lane/steady/tarn/dists/heron/InRelease", "status=200"},
		{"service stopped", "why="},
	} {
		found := false
		for _, line := range strings.Split(log.String(), "\n") {
			all := true
			for _, w := range want {
				all = all && strings.Contains(line, w)
			}
			found = found || all
		}
		if !found {
			t.Errorf("no line has %q", want)
		}
	}
	for _, line := range strings.Split(log.String(), "\n") {
		for _, secret := range []string{s.token, "hidden-token", "hidden-in-url"} {
			if strings.Contains(line, secret) {
				t.Errorf("a secret is in the log: %s", line)
			}
		}
	}
}
