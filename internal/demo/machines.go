package demo

// MachineLists are what machines of Skerry Reach have installed, as their own programs print it, by
// name of the machine.
var MachineLists = map[string]string{
	// as the lane has it
	"gate-north": `ii  kelp-drive 7.2-0kelp1 amd64
ii  libkelp7:amd64 7.2-0kelp1 amd64
ii  libtide2:amd64 2.1.0-3+fix1 amd64
ii  net-bus 1.2-1 amd64
ii  sluicectl 1.4.2-1 amd64
ii  tide-data 2026.3 all
ii  tide-tables 2.4.1-1 all
`,
	// not brought up to date since spring; somebody put a logger and a newer bus there by hand
	"gate-south": `ii  gate-logger 0.9-2 amd64
ii  kelp-drive 7.1-0kelp2 amd64
ii  libkelp7:amd64 7.1-0kelp2 amd64
ii  libtide2:amd64 2.1.0-3 amd64
ii  net-bus 1.3~trial1-1 amd64
rc  sluice-old 0.8-1 amd64
ii  sluicectl 1.4.0-1 amd64
ii  tide-data 2026.1 all
ii  tide-tables 2.3.0-1 all
`,
	"bench-1": `ii  libtide2:amd64 2.1.0-3+fix1 amd64
ii  net-bus 1.2-1 amd64
ii  sluicectl 1.4.2-1 amd64
ii  tide-data 2026.3 all
ii  tide-tables 2.4.1-1 all
`,
	// the vendor's advisory of November is about what it has not got
	"pump-1": `libbrine 3.4.1-2.el9 x86_64
pump-calibration 1:2026.1-1.el9 noarch
pump-lang-en 4.0-1.el9 noarch
pumpctl 3.1.4-1.el9 x86_64
serial-pump-bus 0.9-4.el9 x86_64
`,
}
