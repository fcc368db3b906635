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
		Long: `Run the service: the API and the console on one address, the packages for machines on
another. Both are on loopback by default. Port 0 selects a free port; the service prints the actual
addresses. The log goes to standard error, with one line of key=value pairs for each job, change,
refusal and fault. The first start creates the site key and one warden, and writes the token of that
warden to warden.token in the data folder.`,
		Example: "  stockade serve --data /srv/stockade\n  stockade serve --data ./data --listen " +
			"127.0.0.1:0 --packages 0.0.0.0:8441 --packages-url http://stores.reach.example:8441",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (cfg.CertFile == "") != (cfg.KeyFile == "") {
				return usage("--tls-cert and --tls-key must be used together")
			}
			var level slog.Level
			if err := level.UnmarshalText([]byte(logLevel)); err != nil {
				return usage("--log-level %s is not a level. The levels are debug, info, warn "+
					"and error", logLevel)
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
		"level of the log on standard error: debug (also requests that read), info, warn or "+
			"error")
	f.StringVar(&cfg.Data, "data", "./data", "folder of the data")
	f.StringVar(&cfg.Listen, "listen", "127.0.0.1:8440", "address of the API and the console")
	f.StringVar(&cfg.Packages, "packages", "127.0.0.1:8441", "address for machines")
	f.StringVar(&cfg.PublicURL, "packages-url", "",
		"URL at which machines reach --packages, if it differs")
	f.StringVar(&cfg.Unlock, "unlock", "", "file with the passphrase of the site key; "+
		"DATA/site/unlock by default")
	f.StringVar(&cfg.CertFile, "tls-cert", "", "file with the certificate for TLS")
	f.StringVar(&cfg.KeyFile, "tls-key", "", "file with the key for TLS")
	f.StringVar(&cfg.Witness, "witness", "", "file elsewhere, such as on a share of another "+
		"machine, that keeps the newest head of the journal; the journal is compared with it")
	f.StringVar(&cfg.BeginAnew, "begin-anew", "",
		"whole fingerprint of a site key that was lost, alone or with its records: sets aside "+
			"what is left and starts with a new key")
	cfg.Grace, cfg.JobTime, cfg.JobMemory = 24*time.Hour, 24*time.Hour, 4<<30
	f.BoolVar(&cfg.LiftRules, "lift-rules", false,
		"remove all recorded rules, such as the one that two wardens vouch. No account can do "+
			"this")
	f.StringVar(&cfg.NewWarden, "new-warden", "",
		"create a warden of this name, with a token in DATA/NAME.token; for the case that the "+
			"tokens of all wardens are lost")
	f.Var((*timeValue)(&cfg.Grace), "grace",
		"how long packages of the former edition of a lane stay reachable: 12h, 2d")
	f.StringArrayVar(&cfg.Hosts, "host", nil,
		"further host name of the API and the console; can be repeated")
	f.IntVar(&cfg.Machines, "connections", 0,
		"largest number of connections of machines; 0: as many as the limit of open files "+
			"allows")
	f.IntVar(&cfg.Jobs, "jobs", 0,
		"how many builds, proofs and previews run at once; 0: the number of processors")
	f.Var((*timeValue)(&cfg.JobTime), "job-time", "longest duration of a job: 12h, 2d")
	f.Var((*sizeValue)(&cfg.JobMemory), "job-memory",
		"memory that the service may use while jobs run, such as 4GiB; above it, the newest "+
			"job is stopped")
	f.Var((*sizeValue)(&cfg.Limit), "limit",
		"largest total download rate per second, such as 5M; 0: no limit")
	return c
}

func (a *app) demoCommand() *cobra.Command {
	var opt demo.Options
	c := &cobra.Command{Use: "demo", Short: "Run the whole way once on made-up data, on " +
		"loopback",
		Long: `Start made-up upstreams and a service with the Skerry Reach data, run the whole way
once, and stay up so that you can use the console. The demonstration uses only loopback. Its data is in
--data, which is created anew at each start.`,
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
	c.Flags().BoolVar(&opt.Once, "once", false, "stop after the run")
	c.Flags().StringVar(&opt.Data, "data", "demo-data", "folder for the data of the "+
		"demonstration; created anew")
	c.Flags().StringVar(&opt.Listen, "listen", "127.0.0.1:0", "address of the API and the "+
		"console")
	return c
}
