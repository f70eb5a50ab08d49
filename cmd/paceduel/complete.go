package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paceduel/core/contender/all"
	"paceduel/core/logbook"
	"paceduel/core/plan"
	"paceduel/core/plan/read"
	"paceduel/core/units"
)

// What the shell is offered. Nothing here may fail loudly: what cannot be read offers nothing.

// completePlans offers plan files, and the folders that they may be in.
func completePlans(_ *cobra.Command, _ []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	dir, _ := filepath.Split(begun)
	entries, err := os.ReadDir(filepath.Join(".", dir))
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []cobra.Completion
	folders := cobra.ShellCompDirectiveDefault
	for _, e := range entries {
		name := dir + e.Name()
		switch {
		case !strings.HasPrefix(name, begun) || strings.HasPrefix(e.Name(), "."):
		case e.IsDir():
			out, folders = append(out, name+"/"), cobra.ShellCompDirectiveNoSpace
		case strings.HasSuffix(name, plan.Suffix):
			out = append(out, name)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp | folders
}

// completeRuns offers the latest runs in the logbook, with their duels.
func (s *settings) completeRuns(_ *cobra.Command, args []string, begun string) (
	out []cobra.Completion, do cobra.ShellCompDirective,
) {
	const most = 50
	book, err := s.book()
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	defer book.Close()
	runs, _ := book.List(most, logbook.Filter{Attempts: logbook.Kept})
	for _, e := range runs {
		if strings.HasPrefix(e.ID, begun) && !slices.Contains(args, e.ID) {
			about := e.Name + ", " + e.Started.Format("2 Jan 2006 15:04")
			out = append(out, cobra.CompletionWithDesc(e.ID, strings.ReplaceAll(about, "\t", " ")))
		}
	}
	return out, cobra.ShellCompDirectiveDefault // saved results are files
}

// completeOneRun is completeRuns for a command that takes one run.
func (s *settings) completeOneRun(c *cobra.Command, args []string, begun string) (
	out []cobra.Completion, do cobra.ShellCompDirective,
) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return s.completeRuns(c, args, begun)
}

// completeDuels offers the duels in the logbook.
func (s *settings) completeDuels(_ *cobra.Command, args []string, begun string) (
	out []cobra.Completion, do cobra.ShellCompDirective,
) {
	book, err := s.book()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer book.Close()
	duels, _, _ := book.Duels(listDuels)
	for _, d := range duels {
		if strings.HasPrefix(d.Name, begun) {
			out = append(out, cobra.CompletionWithDesc(d.Name, units.Plural(d.Runs, "run")))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeContenders offers the contenders of the plans that are named, the baselines aside, who run in any case.
func (s *settings) completeContenders(_ *cobra.Command, args []string, begun string) (
	out []cobra.Completion, do cobra.ShellCompDirective,
) {
	for _, file := range args {
		p, err := read.File(file, s.planOptions())
		if err != nil {
			continue
		}
		for _, c := range p.Contenders {
			if c.Name != p.Baseline && strings.HasPrefix(c.Name, begun) && !slices.Contains(out, c.Name) {
				out = append(out, cobra.CompletionWithDesc(c.Name, c.Note))
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeSets offers the plan's keys, and the keys below one that is named.
func completeSets(_ *cobra.Command, _ []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	text, err := read.Schema(all.PlanKinds())
	var root schema
	if err != nil || json.Unmarshal(text, &root) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []cobra.Completion
	root.resolve(root.Properties["course"].Properties)
	root.keys("", begun, &out)
	slices.Sort(out)
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// schema is what of a JSON Schema says which keys there are.
type schema struct {
	Doc        string            `json:"description"`
	Properties map[string]schema `json:"properties"`
	OneOf      []schema          `json:"oneOf"`
	Ref        string            `json:"$ref"` // the settings of a kind, as the course has them
}

// resolve puts the settings of kinds where they are referred to.
func (s *schema) resolve(kinds map[string]schema) {
	for name, below := range s.Properties {
		if kind, ok := strings.CutPrefix(below.Ref, "#/properties/course/properties/"); ok {
			below = kinds[kind]
		} else {
			below.resolve(kinds)
		}
		s.Properties[name] = below
	}
	for i := range s.OneOf {
		s.OneOf[i].resolve(kinds)
	}
}

// keys adds those that go on with what is begun: whole ones with what they mean, and those that have keys of their own.
func (s *schema) keys(before, begun string, out *[]cobra.Completion) {
	properties := s.Properties
	for i := range s.OneOf { // a key that may be one text or several keys
		if len(properties) == 0 {
			properties = s.OneOf[i].Properties
		}
	}
	for name, below := range properties {
		path := before + name
		has := len(below.Properties) > 0 ||
			slices.ContainsFunc(below.OneOf, func(o schema) bool { return len(o.Properties) > 0 })
		switch {
		case has && strings.HasPrefix(begun, path+"."):
			below.keys(path+".", begun, out)
		case !strings.HasPrefix(path, begun):
		case has:
			*out = append(*out, cobra.CompletionWithDesc(path+".", below.Doc))
		default:
			*out = append(*out, cobra.CompletionWithDesc(path+"=", below.Doc))
		}
	}
}

// offer has the shell complete what commands take.
func (s *settings) offer(root *cobra.Command) {
	for _, c := range root.Commands() {
		switch c.Name() {
		case "run", "check", "open":
			c.ValidArgsFunction = completePlans
		case "show", "export", "again":
			c.ValidArgsFunction = s.completeOneRun
		case "pair":
			c.ValidArgsFunction = s.completeRuns
		case "log":
			for _, below := range c.Commands() {
				switch below.Name() {
				case "note", "tag", "rename":
					below.ValidArgsFunction = s.completeOneRun
				case "delete":
					below.ValidArgsFunction = s.completeRuns
				}
			}
		}
		for flag, complete := range map[string]cobra.CompletionFunc{
			"only": s.completeContenders, "set": completeSets, "go-on": s.completeOneRun,
		} {
			if c.Flags().Lookup(flag) != nil {
				if err := c.RegisterFlagCompletionFunc(flag, complete); err != nil {
					panic(err) // only of a flag that is none
				}
			}
		}
	}
}
