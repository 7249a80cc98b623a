//go:build unix

package cli

import (
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// personBehind gives who became root to run this program (sudo(8), SUDO_UID): a browser
// as root would be a present to every page.
func personBehind(getenv func(string) string) person {
	if os.Geteuid() != 0 {
		return person{}
	}
	uid, err := strconv.ParseUint(getenv("SUDO_UID"), 10, 32)
	if err != nil || uid == 0 {
		return person{}
	}
	u, err := user.LookupId(strconv.FormatUint(uid, 10))
	if err != nil {
		return person{}
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		return person{}
	}
	return person{uid: uint32(uid), gid: uint32(gid), name: u.Username, dir: u.HomeDir, other: true}
}

// become has a command run as a person, with none of root's groups.
func become(c *exec.Cmd, who person) {
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: who.uid, Gid: who.gid}, Setsid: true}
}
