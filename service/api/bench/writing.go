package bench

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/plot"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/examples/patterns"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/store"
)

// sheetSources takes sheets over, with names that a folder can have.
func sheetSources(sheets []api.Sheet) ([]sheet.Source, error) {
	var sources []sheet.Source
	names := map[string]bool{}
	for _, sh := range sheets {
		if strings.ContainsAny(sh.Name, `/\`) || !strings.HasSuffix(sh.Name, ".rct") || sh.Name == ".rct" || transport.Shown(sh.Name) != sh.Name {
			return nil, transport.Refuse(http.StatusUnprocessableEntity, "The sheet name "+transport.Shown(sh.Name)+" is not of the form NAME.rct.")
		}
		if names[sh.Name] {
			return nil, transport.Refuse(http.StatusUnprocessableEntity, "Two sheets are named "+sh.Name+".")
		}
		names[sh.Name] = true
		sources = append(sources, sheet.Source{Name: sh.Name, Text: []byte(sh.Text)})
	}
	if len(sources) == 0 {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, "A job has at least one sheet.")
	}
	return sources, nil
}

func sheetViews(sources []sheet.Source) []api.Sheet {
	all := []api.Sheet{}
	for _, s := range sources {
		all = append(all, api.Sheet{Name: s.Name, Text: string(s.Text)})
	}
	return all
}

func changeViews(changes []sheet.Change) []api.Change {
	all := []api.Change{}
	for _, c := range changes {
		all = append(all, api.Change{Keyword: c.Keyword, Name: c.Name, Before: c.Before, After: c.After})
	}
	return all
}

// check checks a job at the desk.
func (s *Server) check(ctx context.Context, sources []sheet.Source) (job *sheet.Job, p *logic.Program, found []sheet.Finding, err error) {
	_, err = pool.Do(ctx, s.desk, func(context.Context) (struct{}, error) {
		job, p, found = logic.Check(sources)
		return struct{}{}, nil
	})
	return job, p, found, err
}

// Check says what is to be said of a job that is being written.
func (s *Server) Check(ctx context.Context, request CheckRequestObject) (CheckResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	body := request.Body
	sources, err := sheetSources(body.Sheets)
	if err != nil {
		return nil, err
	}
	var base []sheet.Source
	if body.Base != nil {
		if _, base, err = j.Revision(ctx, *body.Base); err != nil {
			return nil, err
		}
	}
	var p *logic.Program
	v, err := pool.Do(ctx, s.desk, func(work context.Context) (v Check200JSONResponse, err error) {
		job, program, found := logic.Check(sources)
		p = program
		v = Check200JSONResponse{
			Title:        job.Title,
			Findings:     transport.Findings(found),
			Declarations: declaredViews(job, sources),
			Rules:        []api.Rule{},
			Names:        namedViews(job, p),
			Units:        unit.Names(),
			Changes:      []api.Change{},
		}
		if err := pool.Stop(work)(); err != nil {
			return v, err
		}
		if body.Base != nil {
			v.Changes = changeViews(sheet.Difference(base, sources))
		}
		if body.Format != nil && *body.Format {
			if formatted, ok := laidOut(sources); ok {
				v.Formatted = &formatted
			}
		}
		if err := pool.Stop(work)(); err != nil || p == nil {
			return v, err
		}
		v.Rules = ruleViews(p, true)
		return v, nil
	})
	if err != nil || p == nil || body.Play == nil {
		return v, err
	}
	v.Play, err = s.play(ctx, j, p, body.Play)
	return v, err
}

// laidOut are sheets as `fmt` lays them out, if all of them can be read.
func laidOut(sources []sheet.Source) ([]api.Sheet, bool) {
	all := []api.Sheet{}
	for _, s := range sources {
		f, found := sheet.ParseFile(s.Name, s.Text)
		if sheet.HasErrors(found) {
			return nil, false
		}
		all = append(all, api.Sheet{Name: s.Name, Text: f.String()})
	}
	return all, true
}

// declaredViews tells which lines are which declaration's.
func declaredViews(job *sheet.Job, sources []sheet.Source) []api.Declared {
	all := []api.Declared{}
	for _, f := range job.Files {
		i := slices.IndexFunc(sources, func(s sheet.Source) bool { return s.Name == f.Name })
		lines := strings.Split(string(sources[i].Text), "\n")
		end := len(lines)
		blank := func(n int) bool { return strings.TrimSpace(lines[n-1]) == "" }
		from := len(all)
		for k := len(f.Declarations) - 1; k >= 0; k-- {
			d := f.Declarations[k]
			first, last := d.Base().At.Line, end
			for last > first && (blank(last) || k == len(f.Declarations)-1 && strings.HasPrefix(lines[last-1], "#")) {
				last--
			}
			for first > 1 && strings.HasPrefix(lines[first-2], "#") {
				first--
			}
			end = first - 1
			all = append(all, api.Declared{Keyword: d.Keyword(), Name: d.Base().Name, File: f.Name, From: first, To: last})
		}
		slices.Reverse(all[from:])
	}
	return all
}

// namedViews lists everything that has a name, for those who write.
func namedViews(job *sheet.Job, p *logic.Program) []api.Named {
	all := []api.Named{}
	for _, f := range job.Files {
		for _, d := range f.Declarations {
			if d.Base().Name != "" {
				all = append(all, namedView(job, d, p))
			}
		}
	}
	return all
}

func namedView(job *sheet.Job, d sheet.Declaration, p *logic.Program) api.Named {
	v := api.Named{Name: d.Base().Name, Title: d.Base().Title(), Kind: api.NamedKindOther, Like: job.Like(d)}
	switch d := d.(type) {
	case *sheet.Input:
		if d.Discrete {
			v.Kind = api.NamedKindContact
			break
		}
		v.Kind, v.Unit = api.NamedKindInput, d.Engineering().Name()
		if p == nil || p.Index(logic.InputKind, d.Name) < 0 {
			break
		}
		if low, high, ok := p.Inputs[p.Index(logic.InputKind, d.Name)].Chain.Reach(); ok {
			v.Low, v.High = &low, &high
		}
	case *sheet.Derived:
		v.Kind = api.NamedKindDerived
	case *sheet.Setpoint:
		v.Kind, v.Unit = api.NamedKindSetpoint, d.Type().Unit.Name()
		if d.Constant {
			v.Kind = api.NamedKindConstant
		}
	case *sheet.Output:
		v.Kind, v.Unit = api.NamedKindOutput, d.Unit().Name()
		if d.Range != nil {
			v.Kind = api.NamedKindAnalogOutput
		}
	}
	return v
}

// phraseViews are a sentence in pieces.
func phraseViews(p *logic.Program, d sheet.Declaration) []api.Phrase {
	all := []api.Phrase{}
	for _, x := range p.Job.Phrases(d) {
		v := api.Phrase{Text: x.Text}
		if x.Part != nil {
			v.Part = partView(x.Part)
		}
		all = append(all, v)
	}
	return all
}

func partView(x *sheet.Part) *api.Part {
	v := &api.Part{Kind: api.PartKind(x.Kind), File: x.At.File, Line: x.At.Line, Column: x.At.Column, Text: x.Text}
	if u := x.Unit.Name(); u != "" {
		v.Unit = &u
	}
	if x.Name != "" {
		v.Setpoint = &x.Name
	}
	return v
}

// play plays a recording through a job that is being written, and draws what one
// rule has to do with.
func (s *Server) play(ctx context.Context, j *shelf, p *logic.Program, request *api.PlayRequest) (*api.Play, error) {
	return pool.Do(ctx, s.bench, func(work context.Context) (*api.Play, error) {
		r, err := j.recording(work, request.Recording)
		if err != nil {
			return nil, err
		}
		began := time.Now()
		result, err := bench.Replay(p, r, bench.Options{Most: 1, Stop: pool.Stop(work)})
		if err != nil {
			return nil, refusal(err)
		}
		v := &api.Play{
			Clock:  clockView(r.Clock, r.Origin),
			From:   seconds(r.Start - r.Origin),
			To:     seconds(r.End - r.Origin),
			States: append(summaryViews(result), bandStates(result)...),
			Panels: []api.PlayedPanel{},
			Lanes:  []api.Lane{},
		}
		if rule := views.Deref(request.Rule); p.Job.Lookup(rule) != nil { // a rule that is just being renamed has nothing to be drawn
			if err := drawRule(v, result, rule, request.Pixels); err != nil {
				return nil, refusal(err)
			}
		}
		v.Took = time.Since(began).Seconds()
		return v, nil
	})
}

// bandStates are which bands are in force at the end of a replay.
func bandStates(r *bench.Result) []api.Summary {
	var all []api.Summary
	for _, b := range r.Program.All(logic.BandsKind) {
		spans := r.Spans(b)
		all = append(all, api.Summary{Name: r.Program.Name(b), Kind: b.Kind.String(), Final: r.Program.StandText(b, spans[len(spans)-1].Stand)})
	}
	return all
}

func drawRule(v *api.Play, result *bench.Result, rule string, pixels int) error {
	names := result.Program.Job.Around(rule)
	chart, err := plot.FromReplay(result, "", "", names...)
	if err != nil {
		return err
	}
	r := result.Recording
	for i, panel := range panelViews(result, chart) {
		v.Panels = append(v.Panels, api.PlayedPanel{Panel: panel, Series: seriesView(chart.Panels[i].Signal, r.Start, r.End, pixels, r.Origin)})
	}
	v.Lanes = laneViews(result, chart)
	return nil
}

// Try says how a rule and its outputs would stand with some values.
func (s *Server) Try(ctx context.Context, request TryRequestObject) (TryResponseObject, error) {
	body := request.Body
	sources, err := sheetSources(body.Sheets)
	if err != nil {
		return nil, err
	}
	_, p, found, err := s.check(ctx, sources)
	if err != nil {
		return nil, err
	}
	if p == nil {
		return nil, transport.RefuseFound(http.StatusUnprocessableEntity, "The job has errors; mend them, and the rule can be tried.", found)
	}
	var with []bench.Given
	for name, value := range body.Values {
		g, err := bench.ParseGiven(p, name+"="+value)
		if err != nil {
			return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
		}
		with = append(with, g)
	}
	around := p.Job.Around(body.Rule)
	if len(around) == 0 {
		return nil, transport.Refuse(http.StatusNotFound, "Nothing that decides is named "+body.Rule+".")
	}
	v := Try200JSONResponse{States: []api.Stand{}}
	tried, err := bench.Try(p, with)
	if err != nil {
		return nil, err
	}
	for _, st := range tried.States {
		if slices.Contains(around, st.Name) {
			v.States = append(v.States, api.Stand{Name: st.Name, Kind: st.Kind.String(), State: st.State, Because: st.Because})
		}
	}
	return v, nil
}

// Rename changes a name in every place of a job.
func (s *Server) Rename(ctx context.Context, request RenameRequestObject) (RenameResponseObject, error) {
	sources, err := sheetSources(request.Body.Sheets)
	if err != nil {
		return nil, err
	}
	renamed, err := pool.Do(ctx, s.desk, func(context.Context) ([]sheet.Source, error) {
		renamed, err := sheet.Rename(sources, request.Body.From, strings.TrimSpace(request.Body.To))
		if err != nil {
			return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
		}
		return renamed, nil
	})
	if err != nil {
		return nil, err
	}
	return Rename200JSONResponse{Sheets: sheetViews(renamed)}, nil
}

// Merge puts what was changed from one revision onto the newest.
func (s *Server) Merge(ctx context.Context, request MergeRequestObject) (MergeResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	mine, err := sheetSources(request.Body.Sheets)
	if err != nil {
		return nil, err
	}
	_, _, found, err := s.check(ctx, mine)
	if err != nil {
		return nil, err
	}
	if sheet.HasErrors(found) {
		return nil, transport.RefuseFound(http.StatusUnprocessableEntity, "The job has errors; mend them before it is put onto another revision.", found)
	}
	_, base, err := j.Revision(ctx, request.Body.Base)
	if err != nil {
		return nil, err
	}
	newest, err := j.Newest(ctx)
	if err != nil {
		return nil, err
	}
	_, theirs, err := j.Revision(ctx, newest)
	if err != nil {
		return nil, err
	}
	return pool.Do(ctx, s.desk, func(context.Context) (MergeResponseObject, error) {
		merged, conflicts := sheet.Merge(base, mine, theirs)
		return Merge200JSONResponse{Sheets: sheetViews(merged), Onto: newest, Conflicts: changeViews(conflicts)}, nil
	})
}

// ListPatterns lists the trade's building blocks.
func (s *Server) ListPatterns(context.Context, ListPatternsRequestObject) (ListPatternsResponseObject, error) {
	all, err := patterns.All()
	if err != nil {
		return nil, err
	}
	v := ListPatterns200JSONResponse{}
	for _, p := range all {
		job, program, _ := logic.Check(patternSource(p))
		view := api.Pattern{Name: p.Name, Title: p.Title, Text: p.Sheet, Points: []api.Named{}}
		for _, in := range job.Inputs {
			view.Points = append(view.Points, namedView(job, in, program))
		}
		for _, o := range job.Outputs {
			view.Points = append(view.Points, namedView(job, o, program))
		}
		v = append(v, view)
	}
	return v, nil
}

func patternSource(p patterns.Pattern) []sheet.Source {
	return []sheet.Source{{Name: "pattern.rct", Text: []byte(p.Sheet)}}
}

// Adopt puts the declarations of a building block into a job.
func (s *Server) Adopt(ctx context.Context, request AdoptRequestObject) (AdoptResponseObject, error) {
	body := request.Body
	sources, err := sheetSources(body.Sheets)
	if err != nil {
		return nil, err
	}
	p, err := patterns.Find(body.Pattern)
	if err != nil {
		return nil, transport.Refuse(http.StatusNotFound, err.Error())
	}
	job, _, found, err := s.check(ctx, sources)
	if err != nil {
		return nil, err
	}
	if sheet.HasErrors(found) {
		return nil, transport.RefuseFound(http.StatusUnprocessableEntity, "The job has errors; mend them before something is put into it.", found)
	}
	var bound map[string]string
	if body.Bound != nil {
		bound = *body.Bound
	}
	declarations, names, err := sheet.Adopt(job, patternSource(p), bound)
	if err != nil {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
	}
	file := views.Deref(body.File)
	if file == "" {
		file = job.SheetForRules(nil)
	}
	i := slices.IndexFunc(sources, func(s sheet.Source) bool { return s.Name == file })
	if i < 0 {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, "No sheet is named "+file+".")
	}
	sources[i].Text = []byte(sheet.Appended(string(sources[i].Text), declarations))
	if formatted, ok := laidOut(sources); ok {
		return Adopt200JSONResponse{Sheets: formatted, Names: names}, nil
	}
	return Adopt200JSONResponse{Sheets: sheetViews(sources), Names: names}, nil
}

// GetDifference lists the declarations that two revisions have differently.
func (s *Server) GetDifference(ctx context.Context, request GetDifferenceRequestObject) (GetDifferenceResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	_, before, err := j.Revision(ctx, request.Params.From)
	if err != nil {
		return nil, err
	}
	_, after, err := j.Revision(ctx, request.Params.To)
	if err != nil {
		return nil, err
	}
	return pool.Do(ctx, s.desk, func(context.Context) (GetDifferenceResponseObject, error) {
		return GetDifference200JSONResponse(changeViews(sheet.Difference(before, after))), nil
	})
}

// GetDraft reads what somebody has written and not kept as a revision.
func (s *Server) GetDraft(ctx context.Context, request GetDraftRequestObject) (GetDraftResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	d, sheets, err := j.Draft(ctx, request.Owner)
	if errors.Is(err, store.ErrNotFound) {
		return GetDraft204Response{}, nil
	}
	if err != nil {
		return nil, err
	}
	return GetDraft200JSONResponse{Base: d.Base, Saved: d.Time(), Sheets: sheetViews(sheets)}, nil
}

// PutDraft keeps a draft, with or without errors.
func (s *Server) PutDraft(ctx context.Context, request PutDraftRequestObject) (PutDraftResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	sources, err := sheetSources(request.Body.Sheets)
	if err != nil {
		return nil, err
	}
	d := store.Draft{Owner: request.Owner, Base: request.Body.Base, Saved: s.now().UnixNano()}
	if err := j.PutDraft(ctx, d, sources); err != nil {
		return nil, err
	}
	return PutDraft204Response{}, nil
}

// DeleteDraft throws a draft away.
func (s *Server) DeleteDraft(ctx context.Context, request DeleteDraftRequestObject) (DeleteDraftResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	if err := j.DeleteDraft(ctx, request.Owner); err != nil {
		return nil, err
	}
	return DeleteDraft204Response{}, nil
}

// outdated tells the second of two who save what has happened.
func outdated(err error, base int64) error {
	if !errors.Is(err, store.ErrOutdated) {
		return err
	}
	return transport.Refuse(
		http.StatusConflict,
		fmt.Sprintf(
			"Somebody has kept a newer revision since you began from revision %d. Nothing was kept, and nothing of yours is lost: look at the difference, and put yours onto theirs.",
			base,
		),
	)
}
