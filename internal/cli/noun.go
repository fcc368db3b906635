package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/client"
)

// noun makes the command of one kind of thing. Its example is that of its first verb.
func noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: name, Short: short, Example: verbs[0].Example, Args: nearest,
		RunE: func(cmd *cobra.Command, args []string) error {
			cmd.SetOut(cmd.ErrOrStderr())
			cmd.Help()
			return &exit{code: exitUsage}
		}}
	c.AddCommand(verbs...)
	return c
}

// listing is how things of one kind are listed.
type listing[T any] struct {
	columns []column
	row     func(T) []string
	name    func(T) string
	empty   string // what to say, and to do, where there are none
}

func (l listing[T]) show(a *app, all []T) error {
	rows, names := [][]string{}, []string{}
	for _, v := range all {
		rows, names = append(rows, l.row(v)), append(names, l.name(v))
	}
	return a.show(all, func() {
		a.table(l.columns, rows)
		if len(rows) == 0 && l.empty != "" {
			a.say("%s", l.empty)
		}
	}, names)
}

// filter leaves of a list what has something.
type filter[T any] struct {
	flag, help string
	values     []string // what can be asked for; anything if nil
	names      string   // path of the list that completes it
	has        func(v T, asked string) bool
}

// bySeverity is a filter by what is told of a thing.
func bySeverity[T any](found func(T) finding.List) filter[T] {
	return filter[T]{"severity", "only objects with a finding of this severity or a worse one",
		finding.Severity("").Values(), "", func(v T, asked string) bool {
			worst := slices.Index(finding.Severity("").Values(), asked)
			return slices.ContainsFunc(found(v), func(f finding.Finding) bool {
				return slices.Index(finding.Severity("").Values(), string(f.Severity)) <= worst
			})
		}}
}

// lister makes the "list" of a noun.
func lister[T any](a *app, short, example, path string, l listing[T], filters ...filter[T]) *cobra.Command {
	asked := make([]string, len(filters))
	c := &cobra.Command{Use: "list", Short: short, Example: example, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			for i, f := range filters {
				if err := f.allowed(asked[i]); err != nil {
					return err
				}
			}
			all, err := client.All[T](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			there := len(all)
			for i, f := range filters {
				if asked[i] != "" {
					all = slices.DeleteFunc(all, func(v T) bool { return !f.has(v, asked[i]) })
				}
			}
			for i, f := range filters {
				if len(all) > 0 || asked[i] == "" || f.names == "" {
					continue
				}
				if err := a.isThere(cmd.Context(), f.flag, f.names, asked[i]); err != nil {
					return err
				}
			}
			if there > 0 {
				l.empty = "none of " + number(there, "entry") + " matches"
			}
			return l.show(a, all)
		}}
	for i, f := range filters {
		c.Flags().StringVar(&asked[i], f.flag, "", f.help)
		if f.values != nil {
			c.RegisterFlagCompletionFunc(f.flag, cobra.FixedCompletions(f.values,
				cobra.ShellCompDirectiveNoFileComp))
		} else if f.names != "" {
			c.RegisterFlagCompletionFunc(f.flag, a.names(f.names, 0, byName))
		}
	}
	return c
}

// isThere tells that a list came out empty because nothing has the name that was asked for.
func (a *app) isThere(ctx context.Context, kind, path, name string) error {
	if err := plainNames(kind, []string{name}); err != nil {
		return err
	}
	_, err := client.Get[json.RawMessage](ctx, a.client(), path+"/"+url.PathEscape(name))
	return err
}

func (f filter[T]) allowed(asked string) error {
	if asked == "" || f.values == nil || slices.Contains(f.values, asked) {
		return nil
	}
	return oneOf("--"+f.flag, asked, f.values)
}

// oneOf refuses a value that is none of those which can be.
func oneOf(what, given string, known []string) error {
	way := "the allowed values are " + strings.Join(known, ", ")
	if near := definition.Nearest(given, known); near != "" {
		way = "did you mean " + near + "? " + way
	}
	return usageDo(way, "%s %q is not allowed", what, given)
}

// shower makes the "show" of a noun: things by their names.
func shower[T any](a *app, kind, short, example, path string, complete cobra.CompletionFunc, draw func(T),
	name func(T) string) *cobra.Command {
	return &cobra.Command{Use: "show " + strings.ToUpper(kind) + "…", Short: short, Example: example,
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames(kind, args); err != nil {
				return err
			}
			return showEach(a, args, func(arg string) (T, error) {
				return client.Get[T](cmd.Context(), a.client(), path+url.PathEscape(arg))
			}, draw, name)
		}}
}

// showEach gets several things and shows them: one as itself, more as a list.
func showEach[T any](a *app, args []string, get func(string) (T, error), draw func(T),
	name func(T) string) error {
	var all []T
	var names []string
	for _, arg := range args {
		v, err := get(arg)
		if err != nil {
			return err
		}
		all, names = append(all, v), append(names, name(v))
	}
	drawn := func() {
		for i, v := range all {
			if i > 0 {
				fmt.Fprintln(a.out)
			}
			draw(v)
		}
	}
	return a.show(all, drawn, names)
}

// each does something with several things, one after the other. What keeps one from
// being done keeps the others from nothing; all is told. As JSON and YAML the results are a list, of one as
// of several.
func (a *app) each(args []string, do func(arg string) error) error {
	codes := []int{}
	a.gathering = true
	if len(args) == 1 {
		err := do(args[0])
		a.gathering = false
		if len(a.gathered) > 0 {
			err = errors.Join(a.show(a.gathered, nil, nil), err)
		}
		return err
	}
	for _, arg := range args {
		err := do(arg)
		code := a.end(err)
		codes = append(codes, code)
		if code == exitInterrupted || code == exitUnreachable || code == exitRefused {
			break
		}
	}
	a.gathering = false
	if len(a.gathered) > 0 {
		if err := a.show(a.gathered, nil, nil); err != nil {
			return err
		}
	}
	if code := worse(codes...); code != exitDone {
		return &exit{code: code}
	}
	return nil
}

// plainNames refuses what cannot be a recorded name before it gets into the path of a
// call.
func plainNames(kind string, args []string) error {
	for _, arg := range args {
		if definition.IsName(arg) {
			continue
		}
		way := "a name has lower-case letters, digits, dots and hyphens. To list the names: stockade " +
			"" + kind + " list"
		if low := strings.ToLower(arg); definition.IsName(low) {
			way = "did you mean " + strconv.Quote(low) + "? To list the names: stockade " + kind + " list"
		} else if _, err := os.Stat(arg); err == nil {
			way = "this is a file. Use the name under which its " + kind + " is recorded. To list the " +
				"names: stockade " + kind +
				" list"
		}
		return usageDo(way, "%q is not a name of %s %s", arg, article(kind), kind)
	}
	return nil
}

// article is "an" before a vowel, and "a" otherwise.
func article(word string) string {
	if word != "" && strings.ContainsRune("aeiou", rune(word[0])) {
		return "an"
	}
	return "a"
}
