// Package views returns values, times and reasons as the API answers them, where control and the bench answer the same.
package views

import (
	"rectura/core/logic"
	"rectura/service/api"
	"rectura/service/records"
)

// Reason returns why something is, or was, as it is.
func Reason(name string, why records.Why) api.ReasonNow {
	return api.ReasonNow{Name: name, State: why.State, Because: why.Because, Grounds: Grounds(why.Grounds), Under: append([]int{}, why.Under...)}
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
