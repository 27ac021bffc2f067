package bench

import (
	"fmt"

	"rectura/core/logic"
	"rectura/core/sheet"
)

// Untried warns of the rules of a job that none of its trials, all of which have
// been played, turns on. Of a job without trials it says nothing.
func Untried(job *sheet.Job, played []*Outcome) []sheet.Finding {
	if len(played) == 0 {
		return nil
	}
	on := map[string]bool{}
	for _, o := range played {
		for _, s := range o.Result.Summary {
			if s.Kind == logic.RuleKind && (s.Starts > 0 || s.On > 0) {
				on[s.Name] = true
			}
		}
	}
	var found []sheet.Finding
	for _, r := range job.Rules {
		if !on[r.Name] {
			found = append(found, sheet.Finding{Place: r.NameAt, Severity: sheet.Warning, Code: "not-tried",
				Text: fmt.Sprintf("no trial ever turns %s on, so nothing is known of it; play a recording in which it has to come on", r.Name)})
		}
	}
	return found
}
