package main

import (
	"flag"

	"steadyferry/cmd/ferry/term"
	"steadyferry/internal/core/setting"
)

// settingFlags makes a flag of each thing that can be set on channels, groups
// and spaces; whether it fits what it is set on, the service tells.
func settingFlags(fs *flag.FlagSet) term.Given {
	given := term.Given{}
	term.Define(fs, given, setting.Channels)
	term.Define(fs, given, setting.Groups)
	term.Define(fs, given, setting.Spaces)
	term.Define(fs, given, setting.Endpoints)
	term.Define(fs, given, setting.Watches)
	term.Define(fs, given, setting.Chores)
	return given
}
