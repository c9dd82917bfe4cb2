package terminal

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"sync"
	"syscall"

	"entelon/capture"
	"entelon/codec/take"
)

// OneLine makes a single clear line of an error, with what to do where known.
func OneLine(err error) string {
	line, remedy := worded(err), ""
	var broken *take.Error
	if errors.As(err, &broken) {
		remedy = broken.Remedy()
	} else {
		remedy = capture.Remedy(err)
	}
	line = Plain(strings.ReplaceAll(line, "\n", "; "), "")
	if remedy != "" {
		return line + "; " + remedy
	}
	return line
}

// fileErrors are what can be wrong with a file, in words.
var fileErrors = []struct {
	is  error
	say string
}{
	{fs.ErrNotExist, "there is no such file or folder"},
	{fs.ErrPermission, "this user may not use it"},
	{syscall.EISDIR, "it is a folder"},
	{syscall.ENOTDIR, "a part of its path is not a folder"},
	{syscall.ENOSPC, "the disk is full"},
	{syscall.EROFS, "it is on a disk that cannot be written to"},
	{syscall.ETXTBSY, "a program runs from it"},
}

// worded is an error's text without the words of system calls, the language's library and
// the reader of arguments.
func worded(err error) string {
	line := err.Error()
	if m := unknownCommand.FindStringSubmatch(line); m != nil {
		line = fmt.Sprintf("there is no command %q", m[1])
		if like := strings.Fields(m[2]); len(like) > 0 {
			return line + "; did you mean " + strings.Join(like, " or ") + "?"
		}
		return line + "; entelon --help lists them"
	}
	for _, f := range flagErrors() {
		if m := f.is.FindStringSubmatchIndex(line); m != nil {
			return string(f.is.ExpandString(nil, f.say, line, m))
		}
	}
	var at *fs.PathError
	if errors.As(err, &at) {
		for _, f := range fileErrors {
			if errors.Is(at.Err, f.is) {
				return strings.ReplaceAll(line, at.Error(), at.Path+": "+f.say)
			}
		}
	}
	return line
}

var unknownCommand = regexp.MustCompile(`(?s)^unknown command "([^"]*)" for "[^"]*"(?:\n\nDid you mean this\?\n(.*))?`)

// flagErrors are the errors of arguments, by what is wrong.
var flagErrors = sync.OnceValue(func() []flagError {
	return []flagError{
		{regexp.MustCompile(`(?s)^invalid argument ("(?:[^"\\]|\\.)*") for "(?:-., )?(--[^"]*)" flag: strconv\.(?:ParseInt|Atoi|ParseUint): .*out of range$`), "$2 $1: the number is too large"},
		{regexp.MustCompile(`(?s)^invalid argument ("(?:[^"\\]|\\.)*") for "(?:-., )?(--[^"]*)" flag: strconv\.(?:ParseInt|Atoi|ParseUint): .*`), "$2 $1: give a whole number"},
		{regexp.MustCompile(`(?s)^invalid argument ("(?:[^"\\]|\\.)*") for "(?:-., )?(--[^"]*)" flag: strconv\.ParseFloat: .*`), "$2 $1: give a number"},
		{regexp.MustCompile(`(?s)^invalid argument ("(?:[^"\\]|\\.)*") for "(?:-., )?(--[^"]*)" flag: strconv\.ParseBool: .*`), "$2 $1: give true or false"},
		{regexp.MustCompile(`(?s)^invalid argument ("(?:[^"\\]|\\.)*") for "(?:-., )?(--[^"]*)" flag: (.*)`), "$2: $3"},
		{regexp.MustCompile(`(?s)^unknown flag: (--.*)`), "there is no option $1; --help lists them all"},
		{regexp.MustCompile(`(?s)^unknown shorthand flag: '(.)' in .*`), "there is no option -$1; --help lists them all"},
		{regexp.MustCompile(`(?s)^flag needs an argument: (?:'(.)' in )?(-\S*).*`), "$2 needs a value"},
		{regexp.MustCompile(`^accepts (\d+) arg\(s\), received (\d+)$`), "give $1 and not $2 arguments; --help shows an example"},
		{regexp.MustCompile(`^requires at least 1 arg\(s\), only received 0$`), "what it is about is missing; --help shows an example"},
		{regexp.MustCompile(`^requires at least (\d+) arg\(s\), only received (\d+)$`), "give at least $1 arguments, not $2; --help shows an example"},
		{regexp.MustCompile(`^required flag\(s\) "(.*)" not set$`), "--$1 is missing; --help shows an example"},
	}
})

type flagError struct {
	is  *regexp.Regexp
	say string
}
