// Package views returns what engines and programs say as the API answers it, where control and the bench answer the same.
package views

import (
	"errors"
	"net/http"
	"strings"

	"rectura/core/logic"
	"rectura/service/api"
	"rectura/service/api/transport"
	"rectura/service/live"
)

// Problem returns what an engine refuses as it is answered; any other error as it is.
func Problem(err error) error {
	switch {
	case errors.Is(err, live.ErrRefused):
		text := err.Error() // which may begin with a name, and end with a question
		if !strings.HasSuffix(text, "?") {
			text += "."
		}
		return transport.Refuse(http.StatusConflict, text)
	case errors.Is(err, live.ErrSilent):
		return transport.Refuse(
			http.StatusServiceUnavailable,
			"The engine of the job does not answer. Its devices write what outputs fail to; look at the service's log.",
		)
	case errors.Is(err, live.ErrEnded):
		return transport.Refuse(http.StatusConflict, "The job is not run any more; ask for its status.")
	}
	return err
}

// Reason returns why something is as it is.
func Reason(w Wall, name string, why live.WhyNow) api.ReasonNow {
	v := api.ReasonNow{Name: name, State: why.State, Because: why.Because, NotWritten: Some(why.NotWritten), Grounds: Grounds(why.Grounds),
		Under: append([]int{}, why.Under...)}
	if why.Bypass != nil {
		b := Bypass(w, *why.Bypass)
		v.Bypass = &b
	}
	return v
}

// Bypass returns one of the register.
func Bypass(w Wall, b live.BypassNow) api.Bypass {
	return api.Bypass{Name: b.Name, Kind: b.Kind, Value: b.Value, Who: b.Who, Why: b.Why, Since: w.When(b.Since), Until: w.When(b.Until)}
}

// Grounds returns grounds in the order of their numbers.
func Grounds(all []logic.Ground) []api.Ground {
	answer := []api.Ground{}
	for _, g := range all {
		v := api.Ground{Text: g.Text, Under: append([]int{}, g.Under...)}
		if g.By != "" {
			v.By = &g.By
		}
		if g.Delay != "" {
			v.Delay = &g.Delay
		}
		if stages := Quantities(g.Stages); len(stages) > 0 {
			v.Stages = &stages
		}
		if g.Filtered != "" {
			v.Filtered = &g.Filtered
		}
		answer = append(answer, v)
	}
	return answer
}
