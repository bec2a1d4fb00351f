package desk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/source"
)

// An Input names what is read, and says what is known of it: files, or a plan
// and perhaps files behind it.
type Input struct {
	// Names are the files; the first may be a plan.
	Names []string
	// Known is what is known of how they are written.
	Known source.Known
	// Options decide what values leave open.
	Options profile.Options
	// Wishes are about the table.
	Wishes plan.Wishes
	// Tables is what several sources are: one table, a table of each, or empty: one
	// where they look like it, else a question.
	Tables string
	into   destination
	// Set names the settings above that were given, in the words of whoever
	// gave them: with a plan, they are not allowed, but for Table and Schema.
	Set []string
}

// An Opened input is files with their profile and their plan: given, or made of
// the profile.
type Opened struct {
	Sources  []*source.Source
	Profile  *profile.Profile // nil for a given plan, unless asked for
	Plan     *plan.Plan
	Comments plan.Comments // with the evidence that there is for the plan
	Given    bool          // the plan was given
	Pattern  bool          // and a pattern of its stands for the files
	into     destination
}

// First is the first source.
func (o *Opened) First() *source.Source { return o.Sources[0] }

// Name is what people call the input: the name of its first source, and how many others there are.
func (o *Opened) Name() string {
	var paths []string
	for _, s := range o.Sources {
		paths = append(paths, s.Path)
	}
	return source.NamedTogether(o.First().Name, paths)
}

// Size is how many bytes all sources have.
func (o *Opened) Size() (n int64) {
	for _, s := range o.Sources {
		n += s.Size
	}
	return
}

// job reads all of the input.
func (o *Opened) job(m Meter) rows.Job {
	return rows.Job{Sources: o.Sources, Plan: o.Plan, MaxRejects: -1, Progress: m.Set}
}

// IsPlan reports whether a file is a plan.
func IsPlan(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 4096)
	n, _ := io.ReadFull(f, head)
	return plan.IsPlan(head[:n])
}

// How an input is opened.
type opening struct {
	profiled bool // also with a plan
	once     bool // the verb reads sources no more than once, but for their beginnings
	one      bool // there may be one source only
}

// open opens a source, or a plan with all of its sources: those named behind
// it, else those that it names, where a name may be a pattern. Sources are
// profiled and planned.
func (d *Desk) open(ctx context.Context, in Input, how opening) (*Opened, error) {
	o := &Opened{into: in.into}
	var err error
	in.Known.Stdin = d.Stdin
	in.Wishes.Same = in.Options.Same
	in.Options.Joined = in.Tables == OneTable
	if IsPlan(in.Names[0]) {
		err = d.openPlan(ctx, o, in, how)
	} else if in.Tables == TableEach {
		var parts []part
		if parts, err = partsOf(ctx, in.Names, in.Known); err == nil && len(parts) > 1 {
			return nil, need("%w", &severalTables{in, parts})
		}
	}
	if err == nil && !o.Given {
		in.Known.Once = how.once
		o.Sources, err = openSources(ctx, in.Names, in.Known)
	}
	if err != nil {
		return nil, err
	}
	d.opened = append(d.opened, o.Sources...)
	if how.one && len(o.Sources) > 1 {
		return nil, need("%s: stands for %d sources\n  name one of them behind the plan: %s", in.Names[0],
			len(o.Sources), o.First().Name)
	}
	if o.Given && !how.profiled {
		return o, nil
	}
	if err := d.profile(ctx, o, in.Options); err != nil || o.Given {
		return o, err
	}
	if o.Plan, o.Comments, err = plan.Build(o.Sources, o.Profile, in.Wishes); err != nil {
		var pe *plan.Error
		if errors.As(err, &pe) {
			return nil, err
		}
		return nil, need("%w", err)
	}
	o.Profile.Findings = append(o.Profile.Findings, o.Plan.Named()...)
	return o, nil
}

func (d *Desk) openPlan(ctx context.Context, o *Opened, in Input, how opening) (err error) {
	o.Given = true
	name := in.Names[0]
	if o.Plan, err = plan.ReadFile(name); err != nil {
		return err
	}
	if len(in.Set) > 0 {
		return need("%s: the plan %s already says this\n  change the plan, or use the source itself", in.Set[0], name)
	}
	takeName(o.Plan, in.Wishes)
	o.Pattern = len(in.Names) == 1 && slices.ContainsFunc(o.Plan.Sources,
		func(s plan.Source) bool { return source.IsPattern(s.File) })
	in.Known.Once = !how.profiled
	if o.Sources, err = planSources(ctx, name, o.Plan, in.Names[1:], in.Known); err != nil {
		return err
	}
	if !slices.ContainsFunc(o.Sources, func(s *source.Source) bool { return !o.Plan.Made(s) }) {
		// The evidence in the plan is that of these files.
		o.Comments, err = plan.RemarksIn(name)
	}
	return err
}

// takeName gives a plan the table's name that was wished.
func takeName(p *plan.Plan, w plan.Wishes) {
	if w.Table != "" {
		p.Table.Name = w.Table
	}
	if w.Schema != "" {
		p.Table.Schema = w.Schema
	}
}

// profile reads the sources whole.
func (d *Desk) profile(ctx context.Context, o *Opened, opt profile.Options) (err error) {
	m := d.meter(ctx, "looking", o.Size())
	defer m.End()
	opt.Progress = func(bytes, records int64) {
		m.Set(rows.Progress{Stage: "looking", Bytes: bytes, Size: o.Size(), Records: records})
	}
	if o.Given {
		if opt.Same == nil {
			opt.Same = map[string]string{}
		}
		for _, c := range o.Plan.Columns {
			for _, h := range c.Also {
				opt.Same[h] = c.From
			}
		}
	}
	if o.Profile, _, err = profile.RunAll(ctx, o.Sources, opt); err != nil {
		return err
	}
	if err := o.named(opt.Same); err != nil {
		return err
	}
	for h := range opt.Types {
		if !slices.ContainsFunc(o.Profile.Columns,
			func(c *profile.Column) bool { return c.Called(h) }) {
			return need("--type: the file has no column %q", h)
		}
	}
	if o.Given {
		// What the plan has decided is no question any more.
		o.Profile.Findings = slices.DeleteFunc(o.Profile.Findings,
			func(f profile.Finding) bool { return f.Code.DecidedByPlan() })
	}
	return nil
}

// named makes sure that the sources have the columns that are said to be the same.
func (o *Opened) named(same map[string]string) error {
	if o.Given {
		return nil
	}
	for from, to := range same {
		for _, h := range []string{from, to} {
			has := func(s *source.Source) bool {
				return slices.ContainsFunc(s.Layout.Columns,
					func(c string) bool { return source.Forgive(c) == source.Forgive(h) })
			}
			if !slices.ContainsFunc(o.Sources, has) {
				return need("--same '%s=%s': no source has a column %q", from, to, h)
			}
		}
	}
	return nil
}

// What several sources are.
const (
	OneTable  = "one"
	TableEach = "each"
)

// Several tables are an input that is a table of each of its sources. Whoever can
// do with one only says so with it.
type severalTables struct {
	in    Input
	parts []part
}

func (e *severalTables) Error() string {
	return fmt.Sprintf("%s: %s sources, a table of each\n  this command takes one of them: name its file, or its "+
		"sheet with --sheet", e.in.Names[0], phrase.Grouped(int64(len(e.parts))))
}

// inputs are those of the tables.
func (e *severalTables) inputs() (out []Input) {
	for _, p := range e.parts {
		one := e.in
		one.Names, one.Known.Sheet, one.Tables = []string{p.file}, p.known.Sheet, ""
		out = append(out, one)
	}
	return out
}

// A part is a file, or a sheet of one, that is a source.
type part struct {
	file  string
	known source.Known
}

// openSources opens files: each by itself, all that a pattern matches, or
// several sheets of a workbook.
func openSources(ctx context.Context, names []string, known source.Known) (out []*source.Source, err error) {
	parts, err := partsOf(ctx, names, known)
	if err != nil {
		return nil, err
	}
	for _, x := range parts {
		src, err := source.Open(ctx, x.file, x.known)
		if err != nil {
			return nil, err
		}
		out = append(out, src)
	}
	return out, nil
}

// partsOf are the sources that names stand for.
func partsOf(ctx context.Context, names []string, known source.Known) (out []part, err error) {
	given := known
	for _, name := range names {
		known := given
		files := []string{name}
		if source.IsPattern(name) && !FileExists(name) && !source.IsLink(name) {
			if files, err = matching("", name); err != nil {
				return nil, err
			}
			known.Asked.File = name
		}
		for _, file := range files {
			sheets := []string{known.Sheet}
			if source.ManySheets(known.Sheet) {
				known.Asked.Sheet = known.Sheet
				if sheets, err = source.Sheets(ctx, file, known.Sheet, known); err != nil {
					return nil, err
				}
			}
			for _, sheet := range sheets {
				k := known
				k.Sheet = sheet
				out = append(out, part{file, k})
			}
		}
	}
	return out, nil
}

// A planned file is one that a plan is put to.
type planned struct {
	file string
	form *plan.Source
	many bool // the form stands for more than one file or sheet
}

// planFiles are the files of a plan, or others of their form.
func planFiles(planFile string, p *plan.Plan, files []string) (all []planned, err error) {
	many := func(s *plan.Source) bool { return source.IsPattern(s.File) || source.ManySheets(s.Settings["sheet"]) }
	forms := p.Sources[:1]
	if !slices.ContainsFunc(p.Sources, func(s plan.Source) bool { return s.File != p.Sources[0].File }) {
		forms = p.Sources // the parts of one file: another has them, too
	}
	for _, file := range files {
		for i := range forms {
			all = append(all, planned{file, &forms[i], many(&forms[i])})
		}
	}
	if len(files) > 0 {
		return all, nil
	}
	for i := range p.Sources {
		x := &p.Sources[i]
		found, err := matching(planFile, x.File)
		if err != nil {
			return nil, err
		}
		for _, file := range found {
			all = append(all, planned{file, x, many(x)})
		}
	}
	return all, nil
}

// planSources opens the files of a plan, or others of their form.
func planSources(ctx context.Context, planFile string, p *plan.Plan, files []string,
	given source.Known) (out []*source.Source, err error) {
	all, err := planFiles(planFile, p, files)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		known := p.Known(x.form)
		known.MaxRecord, known.MaxUnpacked, known.Idle, known.Stdin, known.Once = given.MaxRecord, given.MaxUnpacked,
			given.Idle, given.Stdin, given.Once
		some, err := openSources(ctx, []string{x.file}, known)
		if err != nil {
			return nil, err
		}
		for _, src := range some {
			own := func(o planned) bool {
				return !o.many && o.file == x.file && o.form.Settings["sheet"] == src.Sheet
			}
			if x.many && slices.ContainsFunc(all, own) {
				src.Close()
				continue // it has a form of its own
			}
			for _, other := range out {
				if other.Path == src.Path && other.Part() == src.Part() {
					return nil, need("%s: is named twice\n  a file is loaded once in a load", src.Name)
				}
			}
			out = append(out, src)
		}
	}
	return out, nil
}

// matching lists the files that a plan's source stands for: one, or all that
// its pattern matches, in the order of their names. They are looked for where
// the program runs, else beside the plan.
func matching(planFile, file string) ([]string, error) {
	if file == source.Stdin || source.IsLink(file) {
		return []string{file}, nil
	}
	places := []string{file}
	if planFile != "" && !filepath.IsAbs(file) {
		places = append(places, filepath.Join(filepath.Dir(planFile), file))
	}
	for _, p := range places {
		if FileExists(p) {
			return []string{p}, nil
		}
	}
	if strings.ContainsAny(file, "*?[") {
		for _, p := range places {
			found, err := filepath.Glob(p)
			if err != nil {
				return nil, need("%s: %q is not a pattern: %w", planFile, file, err)
			}
			if len(found) > 0 {
				return found, nil
			}
		}
		if planFile == "" {
			return nil, need("no file matches %s", file)
		}
		return nil, need("%s: no file matches %s\n  correct file: in the plan, or name the files behind the plan",
			planFile, file)
	}
	return places[:1], nil // opening it says what is wrong
}

// FileExists reports whether there is a file, or a folder, of a name.
func FileExists(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

// Questions are what the evidence leaves open, so that nothing can be loaded.
func (o *Opened) Questions() (out []Question) {
	if o.Profile == nil || o.Given {
		return nil
	}
	for _, f := range o.Profile.Findings {
		if f.Weight != profile.Blocker || o.into == intoTable && f.Code == profile.CodeHeaderUndecided ||
			o.leftOut(f) {
			continue
		}
		q := Question{Code: Code(f.Code), Column: f.Column, Ask: f.Text, Answer: f.Do}
		for _, x := range f.Answers {
			option := "--" + optionOf(x.Option) + " " + phrase.ShellWord(x.Value)
			q.Choices = append(q.Choices, Choice{x.Value, x.Text, option})
			q.settles = x.Option
		}
		for _, e := range f.Examples[:min(len(f.Examples), 3)] {
			q.Evidence = append(q.Evidence, e.Place()+" '"+reading.Shorten(e.Value, 60)+"'")
		}
		out = append(out, q)
	}
	return out
}

// Open questions are an error until the request answers them.
type OpenQuestions struct {
	Source    string
	Questions []Question
}

func (e *OpenQuestions) Error() string {
	text := e.Source + ": a decision is needed first"
	for _, q := range e.Questions {
		text += "\n  "
		if q.Column != "" {
			text += q.Column + ": "
		}
		text += q.Ask
		for _, line := range q.Evidence {
			text += "\n    " + line
		}
		if q.Answer != "" {
			text += "\n    → " + q.Answer
		}
	}
	return text
}

// decided is the error of an input whose findings need a decision first, or nil.
func (o *Opened) decided() error {
	if q := o.Questions(); len(q) > 0 {
		return &Need{&OpenQuestions{o.Name(), q}}
	}
	return nil
}
