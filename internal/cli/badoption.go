package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"fundus/core/way"
)

// badOption answers an option that is not there, or a value that it does not take. Words
// are judged before options: of an unknown command no option is known.
func (e *Env) badOption(cmd *cobra.Command, err error) error {
	name := strings.TrimPrefix(strings.TrimPrefix(cmd.CommandPath(), "fundus"), " ")
	help := way.Help(name)
	if cmd.HasSubCommands() {
		if word := e.firstWord(name); word != "" {
			return e.unknownWord(cmd, append([]string{word}, e.behind(word)...))
		}
	}
	var none *pflag.NotExistError
	var lacks *pflag.ValueRequiredError
	var bad *pflag.InvalidValueError
	switch {
	case errors.As(err, &none) && none.GetSpecifiedShortnames() != "":
		return shortOption(cmd, none.GetSpecifiedShortnames(), help)
	case errors.As(err, &none):
		return longOption(cmd, name, none.GetSpecifiedName(), help)
	case errors.As(err, &lacks):
		return usageWay(help, "--%s: a value is missing", lacks.GetSpecifiedName())
	case errors.As(err, &bad):
		return usageWay(help, "--%s=%s: %s", bad.GetFlag().Name, bad.GetValue(), wanted(bad.GetFlag()))
	}
	return usageWay(help, "%w", err)
}

// firstWord is the first word behind the command's own that is no option.
func (e *Env) firstWord(name string) string {
	own := strings.Fields(name)
	for _, w := range e.words {
		switch {
		case len(own) > 0 && w == own[0]:
			own = own[1:]
		case len(own) == 0 && !strings.HasPrefix(w, "-"):
			return w
		case len(own) == 0:
			return "" // an option comes first, and is what is wrong
		}
	}
	return ""
}

// wanted says what a flag takes, in words of the trade.
func wanted(f *pflag.Flag) string {
	switch f.Value.Type() {
	case "bool":
		return "it takes no value; it is there or it is not"
	case "int", "int64", "uint", "uint64":
		return "a whole number is wanted"
	}
	return "it does not take this value"
}

// goAhead is said of options by which other programs ask nothing.
const goAhead = "to go ahead without a question, say --commit"

// shortOption answers options of one letter, which there are none of.
//
// A leading minus before a number is a change of size that has lost its option.
func shortOption(cmd *cobra.Command, letters string, help way.Step) error {
	if strings.ContainsAny(letters[:1], "0123456789") {
		return usagef("-%s: a size never begins with a minus; a change of size is written --by=-4GiB", letters)
	}
	if letters[:1] == "y" || letters[:1] == "f" {
		return usageWay(help, "-%s: options are written out in words; %s", letters[:1], goAhead)
	}
	var likely []string
	visit := func(f *pflag.Flag) {
		if strings.HasPrefix(f.Name, letters[:1]) && !f.Hidden {
			likely = append(likely, "--"+f.Name)
		}
	}
	cmd.LocalNonPersistentFlags().VisitAll(visit)
	if len(likely) == 0 {
		return usageWay(help, "-%s: options are written out in words, and none begins with this letter", letters[:1])
	}
	return usageWay(help, "-%s: options are written out in words, such as %s", letters[:1], strings.Join(likely, " or "))
}

// longOption answers an option that the command does not have.
func longOption(cmd *cobra.Command, name, option string, help way.Step) error {
	for _, m := range optionMisses() {
		if m.command == name && m.option == option {
			if m.next.Empty() {
				m.next = help
			}
			return usageWay(m.next, "--%s: %s", option, m.why)
		}
	}
	if option == "force" || option == "yes" {
		return usageWay(help, "--%s: there is no such option; %s", option, goAhead)
	}
	if hint := settingHint(option); name == "format" && hint != "" {
		return usageWay(help, "--%s: %s", option, hint)
	}
	near := ""
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if near == "" && (strings.HasPrefix(f.Name, option) || strings.HasPrefix(option, f.Name)) {
			near = "; there is --" + f.Name
		}
	})
	return usageWay(help, "--%s: %s has no such option%s", option, strings.TrimSpace("fundus "+name), near)
}

type optionMiss struct {
	command, option, why string
	next                 way.Step
}

// optionMisses are options that people try by mistake.
func optionMisses() []optionMiss {
	return []optionMiss{
		{"partition add", "end", "where it ends is --to", way.None()},
		{"partition add", "start", "where it begins is --at", way.None()},
		{"format", "size", "how much of the device it takes is a setting, size=SIZE after the kind", way.None()},
		{"commit", "all", "drafts are committed one by one", way.DraftList()},
		{"undo", "list", "fundus deed list shows what can be undone", way.DeedList()},
		{"undo", "last", "the newest deed is undone without a number", way.Undo()},
		{"recover", "back", "which way is --direction=back", way.Recover("--direction=back")},
		{"recover", "forward", "which way is --direction=forward", way.Recover("--direction=forward")},
	}
}
