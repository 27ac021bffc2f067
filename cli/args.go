package cli

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"rectura/core/near"
	"rectura/core/sheet"
)

// A negative reading, such as -5degC, begins as an option does. It is marked before the
// options are read, and the mark is taken off behind them.
var negative = regexp.MustCompile(`^-\.?[0-9]`)

const mark = "\x00"

// markNegatives marks the negative readings among a command's arguments, but for those
// that are the value of an option.
func markNegatives(root *cobra.Command, args []string) []string {
	c, _, err := root.Find(args)
	if err != nil {
		return args
	}
	marked := slices.Clone(args)
	for i, a := range args {
		if a == "--" {
			break
		}
		if negative.MatchString(a) && (i == 0 || !takesValue(c, args[i-1])) {
			marked[i] = mark + a
		}
	}
	return marked
}

// takesValue tells whether an argument is an option whose value is the next argument.
func takesValue(c *cobra.Command, arg string) bool {
	var f *pflag.Flag
	switch {
	case strings.Contains(arg, "=") || negative.MatchString(arg):
		return false
	case strings.HasPrefix(arg, "--"):
		f = c.Flags().Lookup(arg[2:])
	case strings.HasPrefix(arg, "-") && len(arg) == 2:
		f = c.Flags().ShorthandLookup(arg[1:])
	}
	return f != nil && f.NoOptDefVal == ""
}

// askArguments makes all commands ask for the arguments that their usage names.
func askArguments(c *cobra.Command) {
	for _, sub := range c.Commands() {
		askArguments(sub)
	}
	run := c.RunE
	if run == nil { // it has nothing but commands of its own
		run = func(c *cobra.Command, _ []string) error { return c.Help() }
	}
	c.Args = arguments
	c.RunE = func(c *cobra.Command, args []string) error {
		plain := make([]string, len(args))
		for i, a := range args {
			plain[i] = strings.TrimPrefix(a, mark)
		}
		return run(c, plain)
	}
}

// arguments makes sure that a command has the arguments that its usage names: words before
// the first option, of which those in brackets may be left out, and the last, with an
// ellipsis, may stand more than once.
func arguments(c *cobra.Command, args []string) error {
	var needed []string
	most := 0
	for _, word := range strings.Fields(c.Use)[1:] {
		if strings.HasPrefix(word, "-") {
			break
		}
		most++
		if !strings.HasPrefix(word, "[") {
			needed = append(needed, strings.TrimSuffix(word, "…"))
		}
		if strings.Contains(word, "…") {
			most = len(args) + 1
		}
	}
	switch {
	case len(args) < len(needed):
		missing := needed[len(args):]
		is := "is"
		if len(missing) > 1 {
			is = "are"
		}
		return fmt.Errorf("%s %s missing: %s%s", sheet.List(missing, "and"), is, c.UseLine(), exampleOf(c))
	case len(args) > most:
		extra := strings.TrimPrefix(args[most], mark)
		if most == 0 && c.HasAvailableSubCommands() {
			return fmt.Errorf("%s has no command %s%s; see: %s --help", c.CommandPath(), extra, nearCommand(c, extra), c.CommandPath())
		}
		return fmt.Errorf("%s is one argument too many for: %s; put what has blanks in it in quotes", extra, c.UseLine())
	}
	return neededOptions(c)
}

// neededOptions makes sure that a command has the options that it cannot do without.
func neededOptions(c *cobra.Command) error {
	var missing []string
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if needed := f.Annotations[cobra.BashCompOneRequiredFlag]; len(needed) > 0 && needed[0] == "true" && !f.Changed {
			missing = append(missing, "--"+f.Name)
		}
	})
	switch len(missing) {
	case 0:
		return nil
	case 1:
		return fmt.Errorf("%s is missing%s", missing[0], exampleOf(c))
	}
	return fmt.Errorf("%s are missing%s", sheet.List(missing, "and"), exampleOf(c))
}

// exampleOf is the end of a message: the first example of a command.
func exampleOf(c *cobra.Command) string {
	first, _, _ := strings.Cut(strings.TrimSpace(c.Example), "\n")
	if first == "" {
		return ""
	}
	return "; for example: " + first
}

func nearCommand(c *cobra.Command, word string) string {
	var names []string
	for _, sub := range c.Commands() {
		names = append(names, sub.Name())
	}
	return meant(near.Word(word, names))
}

// meant is the middle of a message about a misspelt word.
func meant(word string) string {
	if word == "" {
		return ""
	}
	return "; did you mean " + word + "?"
}

// optionError says in a sentence what is wrong with an option.
func optionError(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var bare *pflag.ValueRequiredError
	var wrong *pflag.InvalidValueError
	switch {
	case errors.As(err, &unknown):
		name := "--" + unknown.GetSpecifiedName()
		if unknown.GetSpecifiedShortnames() != "" {
			name = "-" + unknown.GetSpecifiedName()
		}
		var names []string
		c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, "--"+f.Name) })
		return fmt.Errorf("%s has no option %s%s; see: %s --help", c.CommandPath(), name, meant(near.Word(name, names)), c.CommandPath())
	case errors.As(err, &wrong):
		f, want := wrong.GetFlag(), ""
		switch f.Value.Type() {
		case "bool":
			want = "stands alone, or with =true or =false"
		case "int", "int64":
			want = "takes a whole number"
		default:
			want = "takes a " + f.Value.Type()
		}
		return fmt.Errorf("--%s %s, and not %q; see: %s --help", f.Name, want, wrong.GetValue(), c.CommandPath())
	case errors.As(err, &bare):
		return fmt.Errorf("--%s needs a value; see: %s --help", bare.GetFlag().Name, c.CommandPath())
	}
	return fmt.Errorf("%w; see: %s --help", err, c.CommandPath())
}
