package launch

import (
	"errors"
	"io"

	"entelon/core/profile"
)

// launchOptions say how a command is started.
type Options struct {
	Settings profile.Settings // command, folder, user, environment, and whether it is started as it is
	Stdin    io.Reader        // its streams; files are handed on as they are
	Stdout   io.Writer
	Stderr   io.Writer
	Tied     bool // it is asked to end when this process is killed
	Clean    bool // it gets the environment of a login and a session of its own
	// Plan sets what the command's runtime needs; nil: nothing.
	Plan func(path string, command []string, log string) Plan
}

// launchPlan is a command as it is started.
type Plan struct {
	Path string
	Args []string
	Set  string // what was set for its runtime, in words; "" for nothing
}

// What is wrong with a command.
var (
	ErrNoCommand = errors.New("the command was not found")
	ErrNoDir     = errors.New("the directory does not exist")
	ErrNoUser    = errors.New("there is no such user")
)
