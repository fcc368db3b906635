package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/solve"
	"stockade/internal/api"
)

func (a *app) mirrorProve(complete cobra.CompletionFunc) *cobra.Command {
	var in api.ProofAsked
	var detach bool
	c := &cobra.Command{Use: "prove MIRROR…",
		Short: "Prove that all wanted packages can be installed from the mirror alone",
		Long: `Prove that the machines of each group on a lane of the mirror can install every wanted
package. The proof uses what a build would contain now, and what is installed already (the baseline).
Packages under together must be installable side by side. If a package cannot be installed, the command
prints a minimal explanation as a tree, and possible fixes, each of them tested. Stockade downloads
indexes, but no packages. The exit code is 1 if a package cannot be installed, or if Stockade could not
decide.`,
		Example: "  stockade mirror prove barrage\n  stockade mirror prove barrage --every\n" +
			"  stockade mirror prove barrage --for sluicectl",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("mirror", args); err != nil {
				return err
			}
			return a.each(args, func(name string) error {
				short := false
				err := a.job(cmd.Context(), work{path: "/mirrors/" + url.PathEscape(name) + "/prove", in: in,
					detach: detach, told: a.outcome, asked: true,
					ids: func(j api.Job) []string {
						out := decode[api.Outcome](j.Result)
						short = unproved(out) || in.For != "" && !certified(out)
						return []string{name}
					}})
				if err == nil && short {
					return no() // where that is no error of the mirror, it is the answer all the same
				}
				return err
			})
		}}
	c.Flags().BoolVar(&in.Every, "every", false, "prove every package that a build would "+
		"contain, not only the wanted ones")
	c.Flags().StringVar(&in.For, "for", "", "show everything that would be installed with this "+
		"package")
	c.Flags().BoolVar(&detach, "detach", false, "do not wait for the job to end")
	return c
}

// certified tells whether packages were shown that would be installed with one that was named.
func certified(o api.Outcome) bool {
	return slices.ContainsFunc(o.Certified, func(c mirror.Certified) bool { return len(c.Packages) > 0 })
}

// unproved tells whether something was not shown to be installable.
func unproved(o api.Outcome) bool {
	return slices.ContainsFunc(o.Proofs, func(p solve.Proof) bool {
		return p.Proved < p.Wanted || slices.ContainsFunc(p.Sets,
			func(s solve.ProvedSet) bool { return !s.Proved })
	})
}

// proved says what a proof came to.
func (a *app) proved(o api.Outcome) {
	for _, p := range o.Proofs {
		a.fields("proof", p.String())
		if len(p.Rests) > 0 {
			fmt.Fprintf(a.out, "packages of the mirror need these packages of the baseline: "+
				"%s\n",
				line(strings.Join(p.Rests, ", ")))
		}
		for _, set := range p.Sets {
			if !set.Proved {
				fmt.Fprintf(a.out, "%s: not proved to be installable together\n", line(set.Name))
			}
		}
	}
	for _, r := range o.Refusals {
		a.refusal(r)
	}
	if more := o.Refused - len(o.Refusals); more > 0 {
		fmt.Fprintf(a.out, "\n%s cannot be installed either; see the findings\n",
			finding.Count(more, "other"))
	}
	for _, c := range o.Certified {
		a.certified(c)
	}
	n := 0
	for _, f := range o.Findings {
		if f.Code == finding.MirrorNotProved {
			n++
		}
	}
	if n > 0 {
		a.say("not decided: %d. The findings above name them and say why", n)
	}
}

// refusal shows why something cannot be installed, and the ways out.
func (a *app) refusal(r solve.Refusal) {
	who := "on " + r.Arch
	if r.View != "" {
		who = "by " + r.View + " on " + r.Arch
	}
	fmt.Fprintf(a.out, "\n%s cannot be installed %s\n", line(r.Wanted), line(who))
	if r.Why == nil {
		fmt.Fprintf(a.out, "  %s\n", line(r.Because))
	} else {
		a.explained(*r.Why, 1)
		if !r.Minimal {
			fmt.Fprintln(a.out, "  the explanation may not be minimal, because the time limit "+
				"was reached")
		}
	}
	switch {
	case len(r.WaysOut) > 0:
		fmt.Fprintln(a.out, "  possible fixes, each of them tested:")
	case r.Tried:
		fmt.Fprintln(a.out, "  no single change fixes this")
	default:
		fmt.Fprintln(a.out, "  fixes for this were not tested; see those above")
	}
	for _, w := range r.WaysOut {
		fmt.Fprintf(a.out, "    %s\n", line(wayOut(w)))
		if w.Object != "" {
			fmt.Fprintf(a.out, "      %s\n", line("stockade amend "+w.Object+" "+amending(w.Amendment)))
		}
	}
}

func (a *app) explained(e solve.Explained, depth int) {
	in := strings.Repeat("  ", depth)
	what := e.Package
	if e.Source != "" {
		what += " of " + e.Source
	}
	if e.Above {
		what += ", see above"
	}
	if e.Deeper {
		what += ", and more: -o json prints the whole explanation"
	}
	fmt.Fprintf(a.out, "%s%s\n", in, line(what))
	for _, x := range e.Excludes {
		fmt.Fprintf(a.out, "%s  %s\n", in, line(x))
	}
	for _, n := range e.Needs {
		if len(n.Ways) == 0 {
			why := "and nothing that the machines see provides it"
			if len(n.Excepted) > 0 {
				why = "and an exception removes what provides it: " + strings.Join(n.Excepted, ", ")
			}
			fmt.Fprintf(a.out, "%s  requires %s, %s\n", in, line(n.Clause), line(why))
			continue
		}
		fmt.Fprintf(a.out, "%s  requires %s, which is provided by\n", in, line(n.Clause))
		for _, w := range n.Ways {
			a.explained(w, depth+2)
		}
		switch {
		case n.Further == 1:
			fmt.Fprintf(a.out, "%s    or by another one, with the same result\n", in)
		case n.Further > 1:
			fmt.Fprintf(a.out, "%s    or by one of %d others, with the same result\n", in, n.Further)
		}
	}
}

// wayOut says what a way out is.
func wayOut(w solve.WayOut) string {
	what := map[string]string{
		definition.AddSource:  "add the source " + w.Name,
		definition.LiftExcept: "take " + w.Name + " out of what is excepted",
		definition.MovePin:    "pin " + w.Name + " to " + w.Version,
		definition.LeaveOut:   "leave " + w.Name + " out",
	}[w.Kind]
	if w.Files == 0 {
		return what
	}
	names, more := w.Packages, ""
	if len(names) > 4 {
		more = fmt.Sprintf(" and %d others", len(names)-3)
		names = names[:3]
	}
	return fmt.Sprintf("%s: %s, %s (%s%s)", what, number(w.Files, "more package"), size(w.Bytes),
		strings.Join(names, ", "), more)
}

// certified shows what would be installed with a package.
func (a *app) certified(c mirror.Certified) {
	who := "on " + c.Arch
	if c.View != "" {
		who = "by " + c.View + " on " + c.Arch
	}
	fmt.Fprintf(a.out, "\n%s, installed %s\n", line(c.Package), line(who))
	if c.Because != "" {
		fmt.Fprintf(a.out, "  %s\n", line(c.Because))
		return
	}
	rows := [][]string{}
	var bytes int64
	for _, p := range c.Packages {
		from := p.Source
		if p.Outside {
			from += " (elsewhere)"
		} else {
			bytes += p.Size
		}
		rows = append(rows, []string{p.Name, p.Version, p.Arch, from, size(p.Size),
			first(p.For, "wanted")})
	}
	a.table([]column{{head: "PACKAGE"}, {head: "VERSION"}, {head: "ARCH"}, {head: "SOURCE"},
		{head: "SIZE", right: true}, {head: "NEEDED BY", cut: atEnd}}, rows)
	a.say("%d packages, %s of them from the mirror. Every dependency was checked again and is "+
		"satisfied",
		len(c.Packages), size(bytes))
}
