package cli

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/archive"
	"stockade/core/families"
	"stockade/core/machine"
	"stockade/core/solve"
	"stockade/internal/api"
	"stockade/internal/client"
)

var machineListing = listing[api.Machine]{
	columns: []column{{head: "MACHINE"}, {head: "GROUP", spare: 1}, {head: "LANE", spare: 4},
		{head: "REPORTED"}, {head: "PACKAGES", right: true, spare: 3}, {head: "COMPARED WITH", spare: 2},
		{head: "SECURITY", right: true}, {head: "UPDATES", right: true}, {head: "NO SOURCE", right: true},
		{head: "AHEAD", right: true, spare: 6}, {head: "HELD", right: true, spare: 5},
		{head: "FINDINGS", cut: atEnd}},
	row: func(m api.Machine) []string {
		reported := "never"
		if m.Reported != nil {
			reported = age(*m.Reported)
		}
		row := []string{m.Name, m.Group, m.Lane, reported, "–", comparedWith(m), "–", "–", "–", "–", "–",
			worst(m.Findings)}
		if m.Reported != nil {
			row[4] = fmt.Sprint(m.Installed)
		}
		if m.Against != "" && m.Problem == "" {
			row[6] = securityOf(m)
			for i, n := range []int{m.Behind, m.Stranded, m.Ahead, m.Held} {
				row[7+i] = fmt.Sprint(n)
			}
		} else if len(m.Findings) == 0 {
			row[11] = "unknown" // none was looked for
		}
		return row
	},
	name:  func(m api.Machine) string { return m.Name },
	empty: "no machines. To enrol one: stockade machine enrol NAME --group GROUP",
}

// securityOf says how many security updates wait for a machine, where that is known.
func securityOf(m api.Machine) string {
	switch {
	case m.Unsure == 0:
		return fmt.Sprint(m.Security)
	case m.Security == 0:
		return "unknown"
	}
	return fmt.Sprintf("%d or more", m.Security)
}

// comparedWith says what the list of a machine was compared with.
func comparedWith(m api.Machine) string {
	switch {
	case m.Reported == nil || m.Against == "":
		return "none yet"
	case m.Problem != "":
		return "nothing"
	case !m.Compared:
		return m.Against + " (before)"
	}
	return m.Against
}

func (a *app) machineCommand() *cobra.Command {
	complete := a.names("/machines", 1, byName)
	several := a.names("/machines", 0, byName)
	group := func(ctx context.Context, name string) (string, error) {
		m, err := client.Get[api.Machine](ctx, a.client(), "/machines/"+url.PathEscape(name))
		return m.Group, err
	}
	return noun("machine", "Manage machines and their reports", a.machineList(),
		shower(a, "machine", "Show machines and their packages that are not current",
			"  stockade machine show gate-north", "/machines/", several, a.machineDetail,
			machineListing.name),
		a.enrol(), a.changeMachine(complete), a.removeMachine(several), a.report(complete),
		a.filesOf("machine", complete, group), a.kitOf("machine", complete, group), a.stranded(several))
}

func (a *app) machineList() *cobra.Command {
	query := map[string]*string{}
	c := &cobra.Command{Use: "list", Short: "List machines",
		Example: "  stockade machine list\n  stockade machine list --group gatehouse --state security",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			q := url.Values{}
			for name, asked := range query {
				if *asked != "" {
					q.Set(name, *asked)
				}
			}
			for _, kind := range []string{"group", "lane"} {
				if asked := *query[kind]; asked != "" {
					if err := a.isThere(cmd.Context(), kind, "/"+kind+"s", asked); err != nil {
						return err
					}
				}
			}
			all, err := client.All[api.Machine](cmd.Context(), a.client(), "/machines?"+q.Encode())
			if err != nil {
				return err
			}
			l := machineListing
			if len(q) > 0 {
				l.empty = "no machine matches"
			}
			return l.show(a, all)
		}}
	states := []string{"security", "behind", "current", "stranded", "ahead", "held", "unknown", "silent",
		"stale"}
	for _, f := range []struct {
		name, help, names string
	}{{"group", "only machines of this group", "/groups"}, {"lane", "only machines that follow " +
		"this lane",
		"/lanes"}, {"state", "only machines in this state: " + strings.Join(states, ", "), ""}} {
		query[f.name] = c.Flags().String(f.name, "", f.help)
		if f.names != "" {
			c.RegisterFlagCompletionFunc(f.name, a.names(f.names, 0, byName))
		}
	}
	c.RegisterFlagCompletionFunc("state", cobra.FixedCompletions(states,
		cobra.ShellCompDirectiveNoFileComp))
	return c
}

// said is what a state of an installed package means.
var said = map[solve.InstalledState]string{
	solve.Behind: "update available", solve.Held: "held by a pin", solve.Stranded: "not in any source",
	solve.Ahead: "ahead", machine.Unknown: "unknown: a module stream",
	solve.Current: "current",
}

// stateOf says what the state of an installed package is.
func stateOf(x machine.InstalledPackage) string {
	text := said[x.State]
	if x.Hold {
		text = "held by the machine"
	}
	if x.Security {
		text += ", security"
	}
	if x.Unfinished != "" {
		text += ", " + x.Unfinished
	}
	return text
}

func (a *app) machineDetail(m api.Machine) {
	reported := "never"
	if m.Reported != nil {
		reported = date(*m.Reported) + ", " + age(*m.Reported) + ", imported by " + m.ReportedBy
	}
	told := ""
	switch {
	case m.Problem != "":
		told = "not compared: " + m.Problem
	case m.Against != "":
		told = fmt.Sprintf("%s, %d current", number(m.Installed, "package"), m.Current)
		for _, x := range []struct {
			n    int
			what string
		}{{m.Behind, "updates available"}, {m.Held, "held"}, {m.Stranded, "not in any source"}, {m.Ahead,
			"ahead"},
			{m.Unknown, "unknown"}} {
			if x.n > 0 {
				told += fmt.Sprintf("; %d %s", x.n, x.what)
			}
		}
		if m.Security > 0 {
			told += fmt.Sprintf("; security updates for %d", m.Security)
		}
		if m.Unsure > 0 {
			told += fmt.Sprintf("; whether updates are security updates is unknown for %d", m.Unsure)
		}
	}
	bytes := ""
	if m.Behind > 0 {
		bytes = size(m.Bytes) + " to download, plus dependencies"
	}
	a.fields("machine", m.Name, "group", m.Group, "lane", m.Lane, "edition", first(m.Edition, "none yet"),
		"note", m.Note, "enrolled", date(m.Enrolled)+" by "+m.By, "reported", reported,
		"compared with", comparedWith(m), "its packages", told, "download", bytes)
	a.findings(a.out, m.Findings)
	a.installed(m.Items)
}

func (a *app) installed(items []machine.InstalledPackage) {
	var rows [][]string
	for _, x := range items {
		rows = append(rows, []string{x.Name, first(x.Arch, "–"), x.Version, first(x.Offered, "–"),
			first(x.From, "–"), stateOf(x), strings.Join(x.Advisories, ", ")})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
	}
	a.table([]column{{head: "PACKAGE"}, {head: "ARCH", spare: 1}, {head: "INSTALLED"},
		{head: "COMES FIRST"}, {head: "FROM", spare: 3}, {head: "STATE"},
		{head: "ADVISORIES", cut: atEnd, spare: 2}}, rows)
}

func (a *app) enrol() *cobra.Command {
	var group, note, from string
	c := &cobra.Command{Use: "enrol MACHINE…", Short: "Enrol machines in a group",
		Long: `Enrol machines in a group, all or none of them. --from reads names from a file with one
name per line; - is standard input.`,
		Example: "  stockade machine enrol gate-5 gate-6 --group gatehouse",
		RunE: func(cmd *cobra.Command, args []string) error {
			names := args
			if from != "" {
				more, err := a.linesOf(from)
				if err != nil {
					return err
				}
				names = append(names, more...)
			}
			if len(names) == 0 {
				return usage("name at least one machine")
			}
			if err := plainNames("machine", names); err != nil {
				return err
			}
			out, err := client.Post[api.Page[api.Machine]](cmd.Context(), a.client(), "/machines",
				api.Enrolling{Names: names, Group: group, Note: note})
			if err != nil {
				return err
			}
			return a.show(out.Items, func() {
				a.say("enrolled %s in %s. To import what one has installed: stockade machine "+
					"report",
					number(len(out.Items), "machine"), group)
			}, names)
		}}
	c.Flags().StringVar(&group, "group", "", "group of the machines")
	c.Flags().StringVar(&note, "note", "", "note about them")
	c.Flags().StringVar(&from, "from", "", "file with names, one per line")
	c.MarkFlagRequired("group")
	c.RegisterFlagCompletionFunc("group", a.names("/groups", 0, byName))
	return c
}

// linesOf reads the lines of a file that are not empty, nor begin with #.
func (a *app) linesOf(path string) (out []string, err error) {
	data, err := a.contents(path)
	if err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		if text := strings.TrimSpace(lines.Text()); text != "" && !strings.HasPrefix(text, "#") {
			out = append(out, text)
		}
	}
	return out, lines.Err()
}

// contents reads a file, or standard input for -.
func (a *app) contents(path string) ([]byte, error) {
	if path == "-" {
		return io.ReadAll(a.in)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, usage("%v", err)
	}
	return data, nil
}

func (a *app) changeMachine(complete cobra.CompletionFunc) *cobra.Command {
	var group, note string
	c := &cobra.Command{Use: "change MACHINE",
		Short:   "Change the group or the note of a machine",
		Example: "  stockade machine change gate-south --note \"behind the pump house\"",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("machine", args); err != nil {
				return err
			}
			path := "/machines/" + url.PathEscape(args[0])
			m, err := client.Get[api.Machine](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			to := api.MachineChange{Group: m.Group, Note: m.Note}
			if cmd.Flags().Changed("group") {
				to.Group = group
			}
			if cmd.Flags().Changed("note") {
				to.Note = note
			}
			if m, err = client.Call[api.Machine](cmd.Context(), a.client(), "PUT", path, to); err != nil {
				return err
			}
			return a.show(m, func() { a.machineDetail(m) }, []string{m.Name})
		}}
	c.Flags().StringVar(&group, "group", "", "new group of the machine")
	c.Flags().StringVar(&note, "note", "", "new note about it")
	c.MarkFlagsOneRequired("group", "note")
	c.RegisterFlagCompletionFunc("group", a.names("/groups", 0, byName))
	return c
}

func (a *app) removeMachine(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "remove MACHINE…",
		Short:   "Remove machines and their reports",
		Example: "  stockade machine remove gate-south --yes", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("machine", args); err != nil {
				return err
			}
			for _, name := range args {
				if err := a.isThere(cmd.Context(), "machine", "/machines", name); err != nil {
					return err
				}
			}
			if err := a.sure("This removes " + strings.Join(args, ", ") +
				", with the reports."); err != nil {
				return err
			}
			return a.each(args, func(name string) error {
				m, err := client.Call[api.Machine](cmd.Context(), a.client(), "DELETE",
					"/machines/"+url.PathEscape(name), nil)
				if err != nil {
					return err
				}
				return a.show(m, func() { a.say("removed %s", name) }, []string{name})
			})
		}}
}

// reportWait is how long is waited until a report is compared with what the lane shows.
const reportWait = 20 * time.Second

func (a *app) report(complete cobra.CompletionFunc) *cobra.Command {
	var taken string
	var prints []string
	for _, name := range families.All.Names() {
		if f, ok := families.All[name].(archive.Inventoried); ok {
			prints = append(prints, fmt.Sprintf("  %-5s %s", name, f.PrintsInventory()))
		}
	}
	c := &cobra.Command{Use: "report MACHINE FILE",
		Short: "Import the installed list of a machine",
		Long: `Import the list of installed packages of a machine, and compare it with what its lane
shows. The list replaces the one imported before. FILE is the output of one of these commands on the
machine; - is standard input.

` + strings.Join(prints, "\n"),
		Example: "  stockade machine report gate-north demo-data/gate-north.list",
		Args:    cobra.ExactArgs(2), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("machine", args[:1]); err != nil {
				return err
			}
			in := api.Reporting{}
			if taken != "" {
				at, err := time.Parse(time.RFC3339, taken)
				if err != nil {
					return usage("--taken %q is not a time such as 2027-01-31T08:00:00Z",
						taken)
				}
				in.At = at
			}
			data, err := a.contents(args[1])
			if err != nil {
				return err
			}
			in.Installed = string(data)
			path := "/machines/" + url.PathEscape(args[0])
			m, err := client.Post[api.Machine](cmd.Context(), a.client(), path+"/report", in)
			for end := time.Now().Add(reportWait); err == nil && m.Edition != "" && !m.Compared &&
				m.Problem == "" && time.Now().Before(end); {
				select {
				case <-time.After(200 * time.Millisecond):
				case <-cmd.Context().Done():
					return cmd.Context().Err()
				}
				m, err = client.Get[api.Machine](cmd.Context(), a.client(), path)
			}
			if err != nil {
				return err
			}
			return a.show(m, func() { a.machineDetail(m) }, []string{m.Name})
		}}
	c.Flags().StringVar(&taken, "taken", "", "time at which the list was made (RFC 3339); now "+
		"by default")
	return c
}

func (a *app) stranded(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "stranded MACHINE…",
		Short:   "List installed packages that are not in any source",
		Example: "  stockade machine stranded gate-north", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("machine", args); err != nil {
				return err
			}
			type alone struct {
				Machine string `json:"machine"`
				machine.InstalledPackage
			}
			all, names, rows := []alone{}, []string{}, [][]string{}
			for _, name := range args {
				m, err := client.Get[api.Machine](cmd.Context(), a.client(),
					"/machines/"+url.PathEscape(name))
				if err != nil {
					return err
				}
				if m.Against == "" || m.Problem != "" {
					a.say("the installed packages of %s were not compared with any edition", name)
				}
				for _, x := range m.Items {
					if x.State == solve.Stranded {
						all, names = append(all, alone{name, x}), append(names, x.Name)
						rows = append(rows, []string{name, x.Name, first(x.Arch, "–"), x.Version, m.Against})
					}
				}
			}
			return a.show(all, func() {
				a.table([]column{{head: "MACHINE"}, {head: "PACKAGE"}, {head: "ARCH"}, {head: "INSTALLED"},
					{head: "COMPARED WITH"}}, rows)
				if len(rows) == 0 {
					a.say("no compared package is stranded")
				}
			}, names)
		}}
}
