package launch

import (
	"errors"
	"io"

	"entelon/core/profile"
)

// Options say how a command is started.
type Options struct {
	Settings profile.Settings // command, folder, user, environment, and whether it is started as it is
	Stdin    io.Reader        // its streams; files are handed on as they are
	Stdout   io.Writer
	Stderr   io.Writer
	Tied     bool     // it is asked to end when this process is killed
	Given    []string // variables that it gets beside the settings'
	Clean    bool     // it gets the environment of a login and a session of its own
}

// What is wrong with a command.
var (
	ErrNoCommand = errors.New("the command was not found")
	ErrNoDir     = errors.New("the directory does not exist")
	ErrNoUser    = errors.New("there is no such user")
)
