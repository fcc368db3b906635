package cli

import (
	"fmt"
	"log/slog"
	"time"

	"github.com/spf13/cobra"

	"stockade/internal/demo"
	"stockade/internal/service"
)

func (a *app) serveCommand() *cobra.Command {
	cfg := service.Config{Version: Version}
	var logLevel string
	c := &cobra.Command{Use: "serve", Short: "Run the service",
		Long: `Run the service: API and console on one address, packages for machines on
another, both on loopback unless told otherwise. Port 0 takes a free port; the
real addresses are printed. What it does is logged to standard error, a line of
key=value for each job, change, refusal and fault. The first start makes the site key and a warden,
whose token is written to warden.token in the data folder.`,
		Example: "  stockade serve --data /srv/stockade\n  stockade serve --data ./data --listen " +
			"127.0.0.1:0 --packages 0.0.0.0:8441 --packages-url http://stores.reach.example:8441",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (cfg.CertFile == "") != (cfg.KeyFile == "") {
				return usage("--tls-cert and --tls-key go together")
			}
			var level slog.Level
			if err := level.UnmarshalText([]byte(logLevel)); err != nil {
				return usage("--log-level %s is not known: debug, info, warn or error", logLevel)
			}
			cfg.Log = slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
			a.serves = true
			s, err := service.Open(cfg)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "api and console  %s\npackages         %s\ndata             %s\n", s.APIURL(),
				s.PackagesURL(), cfg.Data)
			if file := s.WardenToken(); file != "" {
				fmt.Fprintf(a.out, "warden token     %s\n", file)
			}
			return s.Run(cmd.Context())
		}}
	f := c.Flags()
	f.StringVar(&logLevel, "log-level", "info",
		"what is logged to standard error: debug (also reading), info, warn or error")
	f.StringVar(&cfg.Data, "data", "./data", "the data folder")
	f.StringVar(&cfg.Listen, "listen", "127.0.0.1:8440", "address of API and console")
	f.StringVar(&cfg.Packages, "packages", "127.0.0.1:8441", "address for machines")
	f.StringVar(&cfg.PublicURL, "packages-url", "",
		"how machines reach the packages address, where that differs")
	f.StringVar(&cfg.Unlock, "unlock", "", "file with the passphrase of the site key (DATA/site/unlock)")
	f.StringVar(&cfg.CertFile, "tls-cert", "", "certificate file for TLS")
	f.StringVar(&cfg.KeyFile, "tls-key", "", "key file for TLS")
	f.StringVar(&cfg.Witness, "witness", "", "a file elsewhere, such as on another machine's share, that "+
		"keeps the "+
		"newest head of the journal; what it knows is compared with the journal")
	f.StringVar(&cfg.BeginAnew, "begin-anew", "",
		"whole fingerprint of a site key that was lost, or whose records were: sets aside what is left, "+
			"and begins with a new key")
	cfg.Grace, cfg.JobTime, cfg.JobMemory = 24*time.Hour, 24*time.Hour, 4<<30
	f.BoolVar(&cfg.LiftRules, "lift-rules", false,
		"take all recorded rules away, such as that two wardens vouch: no account may do that")
	f.StringVar(&cfg.NewWarden, "new-warden", "",
		"make an account of this name with the rights of a warden, its token in DATA/NAME.token: the way "+
			"back "+
			"where every warden's token is lost")
	f.Var((*timeValue)(&cfg.Grace), "grace",
		"how long packages of a lane's former edition stay reachable: 12h, 2d")
	f.StringArrayVar(&cfg.Hosts, "host", nil,
		"a name by which API and console are reached, beside their address; may be given several times")
	f.IntVar(&cfg.Machines, "connections", 0,
		"connections of machines at once; 0: as many as the limit of open files leaves")
	f.IntVar(&cfg.Jobs, "jobs", 0,
		"how many builds, proofs and previews run at once, while others wait; 0: as many as there "+
			"are processors")
	f.Var((*timeValue)(&cfg.JobTime), "job-time", "how long one job may take: 12h, 2d")
	f.Var((*sizeValue)(&cfg.JobMemory), "job-memory",
		"memory that the service may come to hold while jobs run, such as 4GiB; beyond it the newest is "+
			"ended")
	f.Var((*sizeValue)(&cfg.Limit), "limit",
		"what all downloads together take a second, such as 5M; 0: no limit")
	return c
}

func (a *app) demoCommand() *cobra.Command {
	var opt demo.Options
	c := &cobra.Command{Use: "demo", Short: "Run the whole way once on made-up data, on " +
		"loopback",
		Long: `Start made-up upstreams and a service with the Skerry Reach data, run the whole
way once, then stay up so that the console can be looked at. Nothing but
loopback is used; the data lies in --data, which is made anew each time.`,
		Example: "  stockade demo\n  stockade demo --once", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			a.serves = true
			opt.Out, opt.Err, opt.Colour, opt.Version = a.out, a.err, a.colour, Version
			opt.Run = func(more map[string]string, args []string) int {
				env := func(name string) string {
					if v, ok := more[name]; ok {
						return v
					}
					return a.env(name)
				}
				return Run(env, args, a.in, a.out, a.out)
			}
			return demo.Run(cmd.Context(), opt)
		}}
	c.Flags().BoolVar(&opt.Once, "once", false, "end after the run")
	c.Flags().StringVar(&opt.Data, "data", "demo-data", "folder for the demo's data; made anew")
	c.Flags().StringVar(&opt.Listen, "listen", "127.0.0.1:0", "address of API and console")
	return c
}
