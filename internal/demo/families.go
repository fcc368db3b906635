package demo

import (
	"time"

	"stockade/internal/made"
)

// Brine Drives makes the pumps of the barrage; its packages are of the rpm family.
func brineRepository(date time.Time) made.RPMRepository {
	built := date.Add(-time.Hour).Truncate(24 * time.Hour).Unix() // a day has the same packages
	run := func(name, version string) []made.File {
		return []made.File{{
			Path: "/usr/bin/" + name,
			Mode: 0o755,
			Data: []byte("#!/bin/sh\necho \"" + name + " " + version + " (Skerry Reach)\"\n"),
		},
			{
				Path: "/usr/share/doc/" + name + "/copyright",
				Mode: 0o644,
				Data: []byte("Made up for the Skerry Reach demonstration.\n"),
			}}
	}
	data := func(path, word string, n int) []made.File {
		return []made.File{{Path: path, Mode: 0o644, Data: payload(word, n)}}
	}
	return made.RPMRepository{Name: "brine-drivers", CPE: "cpe:/o:brine:drives:9", Distro: "Brine Drives 9",
		Date: date, Groups: brineGroups, Updates: brineUpdates, Modules: brineModules,
		Built: map[string][]byte{},
		Packages: []made.RPM{
			{Name: "pumpctl", Version: "3.2.0-1.el9", Arch: "x86_64",
				Summary: "start and stop pumps from the command line", Time: built, Packing: "zst",
				Change: "first build for release 9",
				Requires: []string{"libbrine >= 3", "/usr/share/brine/calibration",
					"(pump-lang-en if pump-desk)", "(pump-bus = 2 or serial-pump-bus)"},
				Recommends: []string{"pump-gauge"}, Files: run("pumpctl", "3.2.0-1.el9")},
			{Name: "pumpctl", Version: "3.1.4-2.el9", Arch: "x86_64",
				Summary: "start and stop pumps from the command line", Time: built - 86400,
				Requires: []string{"libbrine >= 3", "serial-pump-bus"}, Files: run("pumpctl", "3.1.4-2.el9")},
			{Name: "libbrine", Version: "3.4.1-2.el9", Arch: "x86_64",
				Summary: "library of Brine pump drives", Time: built, Packing: "xz", Provides: []string{
					"libbrine.so.3()(64bit)"},
				Obsoletes: []string{"libbrine-old < 3"}, Files: data("/usr/lib64/brine/libbrine.so.3",
					"brine", 380_000)},
			{Name: "libbrine", Version: "3.4.1-2.el9", Arch: "i686", Summary: "library of Brine pump drives",
				Time: built, Provides: []string{"libbrine.so.3"},
				Files: data("/usr/lib/brine/libbrine.so.3", "brine32", 300_000)},
			{
				Name:    "pump-calibration",
				Version: "1:2026.2-1.el9",
				Arch:    "noarch",
				Summary: "calibration tables of the pumps",
				Time:    built,
				Files:   data("/usr/share/brine/calibration", "table", 900_000),
			},
			{
				Name:      "serial-pump-bus",
				Version:   "0.9-4.el9",
				Arch:      "x86_64",
				Summary:   "pump bus over serial lines",
				Time:      built,
				Files:     run("serial-pump-bus", "0.9-4.el9"),
				Conflicts: []string{"net-pump-bus"},
			},
			{
				Name:     "net-pump-bus",
				Version:  "2.0~rc1-1.el9",
				Arch:     "x86_64",
				Summary:  "pump bus over the control network",
				Time:     built,
				Provides: []string{"pump-bus = 1.9"},
				Files:    run("net-pump-bus", "2.0~rc1-1.el9"),
			},
			{
				Name:    "pump-gauge",
				Version: "1.0^20260901-1.el9",
				Arch:    "noarch",
				Summary: "shows what the pumps move",
				Time:    built,
				Files:   run("pump-gauge", "1.0"),
			},
			{
				Name:     "pump-desk",
				Version:  "4.0-1.el9",
				Arch:     "x86_64",
				Summary:  "desk for the pump house",
				Time:     built,
				Requires: []string{"pumpctl", "libbrine.so.3()(64bit)"},
				Files:    run("pump-desk", "4.0-1.el9"),
			},
			{
				Name:        "pump-lang-en",
				Version:     "4.0-1.el9",
				Arch:        "noarch",
				Summary:     "words of the desk",
				Time:        built,
				Supplements: []string{"(pump-desk and pump-gauge)"},
				Files:       data("/usr/share/pump-desk/en", "word", 40_000),
			},
			{
				Name:    "pump-panel",
				Version: "2.6-1.el9",
				Arch:    "x86_64",
				Summary: "panel of the pump house, stream 2",
				Time:    built,
				Files:   run("pump-panel", "2.6-1.el9"),
			},
			{
				Name:    "pump-panel",
				Version: "3.0-1.el9",
				Arch:    "x86_64",
				Summary: "panel of the pump house, stream 3",
				Time:    built,
				Files:   run("pump-panel", "3.0-1.el9"),
			},
			{
				Name:     "pumpctl-debuginfo",
				Version:  "3.2.0-1.el9",
				Arch:     "x86_64",
				Summary:  "debugging symbols of pumpctl",
				Time:     built,
				Requires: []string{"pumpctl = 3.2.0-1.el9"},
				Files:    data("/usr/lib/debug/pumpctl", "symbol", 500_000),
			},
		}}
}

const brineGroups = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE comps PUBLIC "-//Brine//DTD Comps info//EN" "comps.dtd">
<comps>
  <group>
    <id>pump-house</id>
    <name>Pump house</name>
    <description>What a pump house needs</description>
    <default>false</default>
    <uservisible>true</uservisible>
    <packagelist>
      <packagereq type="mandatory">pumpctl</packagereq>
      <packagereq type="optional">pump-desk</packagereq>
    </packagelist>
  </group>
</comps>
`

const brineUpdates = `<update from="desk@brine.example" status="final" type="security" version="1">
  <id>BRINE-2026-0017</id>
  <title>pumpctl: a start command without a stop could overrun the basin</title>
  <issued date="2026-11-02 09:00:00"/>
  <updated date="2026-11-02 09:00:00"/>
  <severity>Important</severity>
  <description>Commands are bounded in time now.</description>
  <references><reference href="https://brine.example/notes/17" id="17" title="note 17" type="other"/></references>
  <pkglist><collection short="brine"><name>Brine Drives 9</name>
    <package name="pumpctl" version="3.2.0" release="1.el9" epoch="0" arch="x86_64" src="pumpctl-3.2.0-1.el9.src.rpm"><filename>pumpctl-3.2.0-1.el9.x86_64.rpm</filename></package>
  </collection></pkglist>
</update>
`

const brineFix = `<update from="desk@brine.example" status="final" type="security" version="1">
  <id>BRINE-2026-0021</id>
  <title>pumpctl: commands that wait for the bus are bounded too</title>
  <issued date="2026-11-20 08:00:00"/>
  <updated date="2026-11-20 08:00:00"/>
  <severity>Moderate</severity>
  <description>What note 17 left open.</description>
  <references><reference href="https://brine.example/notes/21" id="21" title="note 21" type="other"/></references>
  <pkglist><collection short="brine"><name>Brine Drives 9</name>
    <package name="pumpctl" version="3.2.1" release="1.el9" epoch="0" arch="x86_64" src="pumpctl-3.2.1-1.el9.src.rpm"><filename>pumpctl-3.2.1-1.el9.x86_64.rpm</filename></package>
  </collection></pkglist>
</update>
`

const brineModules = `---
document: modulemd
version: 2
data:
  name: pump-panel
  stream: "2"
  version: 20260901
  context: aa11bb22
  arch: x86_64
  summary: panel of the pump house
  description: panel of the pump house, as it was
  license: {module: [MIT]}
  artifacts:
    rpms:
    - pump-panel-0:2.6-1.el9.x86_64
...
---
document: modulemd
version: 2
data:
  name: pump-panel
  stream: "3"
  version: 20260915
  context: cc33dd44
  arch: x86_64
  summary: panel of the pump house
  description: panel of the pump house, drawn anew
  license: {module: [MIT]}
  artifacts:
    rpms:
    - pump-panel-0:3.0-1.el9.x86_64
...
---
document: modulemd-defaults
version: 1
data:
  module: pump-panel
  stream: "2"
  profiles: {}
...
`

// Wrack is kept up by the people who build survey launches; its packages are of
// the alpm family.
func wrackRepository(date time.Time) made.AlpmRepository {
	built := date.Add(-time.Hour).Truncate(24 * time.Hour).Unix() // a day has the same packages
	run := func(name, version string) []made.File {
		return []made.File{{
			Path: "/usr/bin/" + name,
			Mode: 0o755,
			Data: []byte("#!/bin/sh\necho \"" + name + " " + version + " (Skerry Reach)\"\n"),
		}}
	}
	return made.AlpmRepository{Components: []string{"wrack", "chart"}, Arch: "x86_64", Date: date,
		Signed: map[string][]byte{}, Packages: []made.Alpm{
			{Component: "wrack", Name: "echo-plot", Version: "2.3.1-2", Arch: "x86_64",
				Summary: "draws what the echo sounder hears", Time: built,
				Depends: []string{"libecho>=1.8", "chart-data", "sounder-bus"}, OptDepend: []string{
					"plot-paper: to print"}, Groups: []string{"survey"}, Files: run("echo-plot", "2.3.1-2")},
			{Component: "wrack", Name: "libecho", Version: "1.9.0-1", Arch: "x86_64",
				Summary: "reads echo sounders", Time: built, Provides: []string{"libecho.so=1-64"},
				Replaces: []string{"libecho1"}, Conflicts: []string{"libecho1"},
				Packing: "xz",
				Files: []made.File{{Path: "/usr/lib/libecho.so.1", Mode: 0o644, Data: payload(
					"echo", 260_000)}}},
			{
				Component: "wrack",
				Name:      "sounder-serial",
				Version:   "1:0.4-1",
				Arch:      "x86_64",
				Summary:   "echo sounders on serial lines",
				Time:      built,
				Provides:  []string{"sounder-bus=1"},
				Conflicts: []string{"sounder-net"},
				Files:     run("sounder-serial", "0.4"),
			},
			{
				Component: "wrack",
				Name:      "sounder-net",
				Version:   "0.2-1",
				Arch:      "x86_64",
				Summary:   "echo sounders on the network",
				Time:      built,
				Provides:  []string{"sounder-bus=2"},
				Files:     run("sounder-net", "0.2"),
			},
			{
				Component: "wrack",
				Name:      "plot-paper",
				Version:   "7-3",
				Arch:      "any",
				Summary:   "paper sizes",
				Time:      built,
				Packing:   "gz",
				Files:     run("plot-paper", "7"),
			},
			{
				Component: "chart",
				Name:      "chart-data",
				Version:   "2026.10-1",
				Arch:      "any",
				Summary:   "charts of the reach",
				Time:      built,
				Files: []made.File{{Path: "/usr/share/chart/reach", Mode: 0o644, Data: payload(
					"sounding", 700_000)}},
			},
		}}
}

// HousePackages are the files that the administrator of Skerry Reach has from
// the house's own workshop, by name: one for each family that the demonstration
// adds, and one that is left to be added.
func HousePackages() (map[string][]byte, error) {
	lamp := made.Deb{
		Name:    "lamp-driver",
		Version: "2.0-1reach1",
		Arch:    "all",
		Summary: "driver of the navigation lamps, built in the house",
		Fields:  "Section: control\nDepends: libtide2 (>= 2.0)\n",
		Files:   script("lamp-driver", "2.0-1reach1"),
	}
	d, err := made.BuildDeb(lamp.Control(), lamp.Files, "xz")
	if err != nil {
		return nil, err
	}
	chart := made.Deb{
		Name:    "lamp-chart",
		Version: "1.0-1reach1",
		Arch:    "all",
		Summary: "where the navigation lamps stand",
		Fields:  "Section: doc\n",
		Files:   script("lamp-chart", "1.0-1reach1"),
	}
	c, err := made.BuildDeb(chart.Control(), chart.Files, "gz")
	if err != nil {
		return nil, err
	}
	pump := made.RPM{Name: "pump-relay", Version: "1.1-1.reach", Arch: "x86_64",
		Summary: "relay of the old pumps, built in the house", Requires: []string{"libbrine >= 3"},
		Time: 1_790_000_000,
		Files: []made.File{{Path: "/usr/bin/pump-relay", Mode: 0o755, Data: []byte(
			"#!/bin/sh\necho pump-relay\n")}}}
	r, err := pump.Build(nil)
	if err != nil {
		return nil, err
	}
	buoy := made.Alpm{Name: "buoy-log", Version: "0.7-1", Arch: "any",
		Summary: "log of the buoys, built in the house", Depends: []string{"libecho"}, Time: 1_790_000_000,
		Files: []made.File{{Path: "/usr/bin/buoy-log", Mode: 0o755, Data: []byte(
			"#!/bin/sh\necho buoy-log\n")}}}
	a, err := buoy.Build()
	return map[string][]byte{
		"lamp-driver_2.0-1reach1_all.deb": d,
		"lamp-chart_1.0-1reach1_all.deb":  c,
		pump.FileName():                   r,
		buoy.FileName():                   a,
	}, err
}

const familiesYAML = `# Skerry Reach: the pump house (rpm), the survey launch (alpm), and what is
# built in the house.
stockade: 1

keys:
  brine-2026:
    file: keys/brine-2026.asc
    fingerprint: %s
    vouched_for: [brine-drivers]
    evidence: "Printed on the delivery note of the pumps, compared by two people"
  wrack-builders:
    file: keys/wrack-builders.asc
    fingerprint: %s
    vouched_for: [wrack]
    evidence: "Compared at the builders' yard, 3 November"

sources:
  brine-drivers:
    family: rpm
    standing: vendor
    upstreams:
      - {url: "%s/el/$release/$arch"}
    release: "9"
    architectures: [x86_64]
    signed_by: [brine-2026]
    priority: 40
  wrack:
    family: alpm
    standing: community
    upstreams:
      - {mirror_list: "%s/mirrors.txt", region: reach}
    components: [wrack, chart]
    architectures: [x86_64]
    signed_by: [wrack-builders]
    priority: 30
  reach-lamps:
    family: deb
    standing: house
    release: heron
    components: [house]
    architectures: [amd64, arm64]
    priority: 10
  reach-pumps:
    family: rpm
    standing: house
    architectures: [x86_64]
    priority: 10
  reach-launch:
    family: alpm
    standing: house
    components: [reach]
    architectures: [x86_64]
    priority: 10
  reach-spares:                       # nothing is made of it yet
    family: deb
    standing: house
    release: heron
    components: [house]
    architectures: [amd64]
    priority: 10

mirrors:
  pumps:
    copy: tailored
    from:
      - source: brine-drivers
        want: {packages: [pumpctl, pump-desk, pump-panel], with: recommended, streams: ["pump-panel:3"], except: ["*-debuginfo"]}
      - source: reach-pumps
        want: {packages: ["*"]}
  pumps-whole:
    copy: faithful
    from: [{source: brine-drivers, want: everything}]
  launch:
    copy: tailored
    from:
      - source: wrack
        want: {packages: [echo-plot], with: suggested}
      - source: reach-launch
        want: {packages: ["*"]}
  launch-whole:
    copy: faithful
    from: [{source: wrack, want: everything}]
  lamps:
    copy: tailored
    from:
      - source: tarn
        want: {packages: [lamp-watch]}
      - source: reach-lamps
        want: {packages: ["*"]}

lanes:
  pump-house: {mirror: pumps}
  survey: {mirror: launch}
  lamps: {mirror: lamps}

groups:
  pump-house:
    family: rpm
    release: "9"
    architectures: [x86_64]
    lane: pump-house
  survey-launch:
    family: alpm
    architectures: [x86_64]
    lane: survey
  lamp-keepers:
    family: deb
    release: heron
    architectures: [amd64]
    lane: lamps
`
