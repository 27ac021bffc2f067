package bench

import (
	"fmt"

	"rectura/core/logic"
	"rectura/core/sheet"
)

// Untried warns of the rules and alarms of a job that none of its trials, all of
// which have been played, turns on, of bands that are never in force, and of messages
// that are never sent. Of a job without trials it says nothing, and nothing of alarms
// that stand for an input's `alarm when bad`.
func Untried(job *sheet.Job, played []*Outcome) []sheet.Finding {
	if len(played) == 0 {
		return nil
	}
	tried := seenIn(played)
	var found []sheet.Finding
	warn := func(at sheet.Place, format string, args ...any) {
		found = append(found, sheet.Finding{Place: at, Severity: sheet.Warning, Code: "not-tried", Text: fmt.Sprintf(format, args...)})
	}
	for _, r := range job.Rules {
		if !tried.on[r.Name] {
			warn(r.NameAt, "no trial ever turns %s on, so nothing is known of it; play a recording in which it has to come on", r.Name)
		}
	}
	for _, b := range job.Bands {
		var never []string
		for i, band := range b.Bands {
			if !tried.bands[b.Name][i] {
				never = append(never, band.Title())
			}
		}
		if len(never) > 0 {
			warn(
				b.NameAt,
				"no trial ever brings %s to %s; play a recording in which the signal goes there",
				b.Name,
				sheet.List(never, "or"),
			)
		}
	}
	for _, a := range job.Alarms {
		if !a.Own && !tried.on[a.Name] {
			warn(
				a.NameAt,
				"no trial ever raises the alarm %s, so nothing is known of it; play a recording in which it has to come",
				a.Name,
			)
		}
	}
	for _, m := range job.Messages {
		if !tried.on[m.Name] {
			warn(m.NameAt, "no trial ever sends the message %s; play a recording in which it has to be sent", m.Name)
		}
	}
	return found
}

// What some trials have brought about.
type seen struct {
	on    map[string]bool         // rules that were on, alarms that were active, messages that were sent
	bands map[string]map[int]bool // that were in force, by name and number
}

func seenIn(played []*Outcome) seen {
	s := seen{map[string]bool{}, map[string]map[int]bool{}}
	for _, o := range played {
		p := o.Result.Program
		for kind, all := range map[logic.Kind][][]Span{
			logic.RuleKind: o.Result.spans.rules, logic.AlarmKind: o.Result.spans.alarms,
			logic.MessageKind: o.Result.spans.messages, logic.BandsKind: o.Result.spans.bands,
		} {
			for i := range all {
				ref := logic.Ref{Kind: kind, Index: int32(i)}
				for _, span := range all[i] {
					if span.State != logic.On {
						continue
					}
					name := p.Name(ref)
					s.on[name] = true
					if kind == logic.BandsKind {
						if s.bands[name] == nil {
							s.bands[name] = map[int]bool{}
						}
						s.bands[name][int(span.Band)] = true
					}
				}
			}
		}
	}
	return s
}
