package unit

import (
	"slices"
	"strings"
	"sync"
)

// spellings are other ways to write units, in small letters.
var spellings = map[string]string{
	"sec": "s", "secs": "s", "second": "s", "seconds": "s", "msec": "ms",
	"mins": "min", "minute": "min", "minutes": "min", "hr": "h", "hrs": "h", "hour": "h", "hours": "h",
	"c": "degC", "celsius": "degC", "f": "degF", "fahrenheit": "degF", "deg": "degC",
	"barg": "bar", "bara": "bar", "psig": "psi", "psia": "psi", "percent": "%", "pct": "%",
	"volt": "V", "volts": "V", "amp": "A", "amps": "A", "ohms": "ohm",
}

// plainLetters writes what keyboards of other layouts offer in the letters of units.
var plainLetters = strings.NewReplacer("µ", "u", "μ", "u", "³", "3", "²", "2", "Ω", "ohm", "Ω", "ohm", "º", "°")

// Meant is the name of the unit that a misspelt one may stand for: another spelling of it,
// such as sec, or its letters in the wrong case, such as ma. Empty if there is none.
func Meant(word string) string {
	plain := plainLetters.Replace(word)
	if letters(plain) == "" {
		return ""
	}
	if u, ok := Lookup(plain); ok {
		return u.Name()
	}
	parts := strings.Split(plain, "/")
	for i, p := range parts {
		if other, ok := spellings[strings.ToLower(p)]; ok {
			parts[i] = other
		}
	}
	if u, ok := Lookup(strings.Join(parts, "/")); ok {
		return u.Name()
	}
	return byLetters()[letters(plain)]
}

// byLetters are the names of the units by their letters; the first of those that share
// them.
var byLetters = sync.OnceValue(func() map[string]string {
	names := map[string]string{}
	for _, name := range slices.Backward(Names()) {
		names[letters(name)] = name
	}
	return names
})

// letters are those of a unit's name, all small.
func letters(name string) string {
	return strings.ToLower(strings.Map(func(r rune) rune {
		if r == '/' || r == '%' || r == '°' {
			return -1
		}
		return r
	}, name))
}

// Unknown says that a word is no unit, and which one may be meant.
func Unknown(word string) string {
	if name := Meant(word); name != "" {
		return word + " is no known unit; did you mean " + name + "? Put a unit of your own in quotes"
	}
	return word + " is no known unit; put a unit of your own in quotes"
}

// short cuts what is too long to be a unit.
func short(word string) string {
	const most = 40
	if len(word) > most {
		return word[:most] + "…"
	}
	return word
}
