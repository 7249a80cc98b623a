package cli

import (
	"fmt"

	"janustat/core/advice"
)

// commands are the command lines that carry out an act. %s stands for the device, and
// for the user on it where one is named.
var commands = map[advice.Act]struct{ plain, on, ofUser string }{
	advice.Admit:           {plain: "commission --newcomers"},
	advice.Allot:           {plain: "allot"},
	advice.ReplaceChannels: {on: "commission %s --replace-channels"},
	advice.AllotAgain:      {on: "allot --again %s"},
	advice.Renumber:        {on: "allot --renumber %s"},
	advice.Commission:      {plain: "commission"},
	advice.Firmware:        {plain: "firmware", on: "firmware %s --apply"},
	advice.Handover:        {plain: "handover"},
	advice.Leave:           {on: "leave %s"},
	advice.TakeByHand:      {plain: "take MAC --kind camera", on: "take %s --kind camera"},
	advice.KeyAdd:          {plain: "key add"},
	advice.KeyChange:       {on: "key change %s", ofUser: "key change %s --user %s"},
	advice.KeyGenerate:     {plain: "key generate"},
	advice.KeyList:         {plain: "key list"},
	advice.KeySet:          {plain: "key set", on: "key set %s"},
	advice.Lease:           {plain: "lease"},
	advice.ListAll:         {plain: "list --all"},
	advice.Prove:           {plain: "prove"},
	advice.Reset:           {on: "reset %s"},
	advice.Restore:         {on: "restore %s"},
	advice.Show:            {on: "show %s"},
	advice.Survey:          {plain: "survey"},
	advice.Swap:            {on: "swap %s"},
	advice.Take:            {on: "take %s"},
	advice.TakeAll:         {plain: "take all"},
	advice.Web:             {on: "web %s"},
	advice.Wire:            {plain: "wire"},
	advice.WireByName:      {plain: "wire --wire NAME"},
}

// command gives the command line of a step, as it would be typed.
func command(s advice.Step) string {
	if s.Act == advice.UseWire {
		return "--wire " + s.On
	}
	words, line := commands[s.Act], ""
	switch {
	case s.User != "" && words.ofUser != "":
		line = fmt.Sprintf(words.ofUser, s.On, s.User)
	case s.On != "" && words.on != "":
		line = fmt.Sprintf(words.on, s.On)
	default:
		line = words.plain
	}
	return "`janustat " + line + "`"
}
