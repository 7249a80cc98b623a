package cli

import (
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
)

// browse starts the system's browser on a link, and gives what is to be done in the
// end. Anybody on the laptop can read a command line, so the link is not on it: the
// browser is led there by a file that only its own user can read. If it cannot be
// started, the link is there to be typed.
func (a *App) browse(l webLink) (end func()) {
	if l.tcp {
		return func() {}
	}
	who := personBehind(a.Getenv)
	dir, path, err := leadTo(l.Link, who)
	end = func() {
		if dir != "" {
			os.RemoveAll(dir)
		}
	}
	if err == nil {
		c := browser(path, who, a.Getenv)
		if err = c.Start(); err == nil {
			go func() { _ = c.Wait() }()
			return end
		}
	}
	a.say("the browser could not be started (%v): open the link yourself", err)
	return end
}

// person is who a browser is to run as; the zero value is who runs this program.
type person struct {
	uid, gid  uint32
	name, dir string
	other     bool // than who runs this program
}

// leadTo makes a folder with a page that leads to a link, for one person alone.
func leadTo(link string, who person) (dir, path string, err error) {
	if dir, err = os.MkdirTemp("", "janustat-web"); err != nil { // mode 0700
		return "", "", err
	}
	path = filepath.Join(dir, "open.html")
	text := fmt.Sprintf("<!doctype html><meta charset=utf-8><meta http-equiv=refresh content=\"0;url=%s\"><title>Janustat</title>", html.EscapeString(link))
	if err = os.WriteFile(path, []byte(text), 0o600); err == nil && who.other {
		if err = os.Chown(path, int(who.uid), int(who.gid)); err == nil {
			err = os.Chown(dir, int(who.uid), int(who.gid))
		}
	}
	return dir, path, err
}

// shown are the variables that a browser needs to find the person's screen. Nothing else
// of our environment goes along: it may hold the keyring's passphrase.
var shown = []string{"DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "XDG_RUNTIME_DIR", "XDG_SESSION_TYPE", "XDG_CURRENT_DESKTOP", "DBUS_SESSION_BUS_ADDRESS", "LANG", "LC_ALL", "PATH", "BROWSER", "SYSTEMROOT"}

func browser(path string, who person, getenv func(string) string) *exec.Cmd {
	name, args := "xdg-open", []string{path}
	switch runtime.GOOS {
	case "darwin":
		name = "open"
	case "windows":
		name, args = "rundll32", []string{"url.dll,FileProtocolHandler", path}
	}
	c := exec.Command(name, args...)
	c.Env = []string{}
	for _, key := range shown {
		if v := getenv(key); v != "" {
			c.Env = append(c.Env, key+"="+v)
		}
	}
	home := getenv("HOME")
	if who.other {
		home = who.dir
		c.Env = append(c.Env, "USER="+who.name, "LOGNAME="+who.name)
		become(c, who)
	} else if user := getenv("USER"); user != "" {
		c.Env = append(c.Env, "USER="+user)
	}
	if strings.TrimSpace(home) != "" {
		c.Env = append(c.Env, "HOME="+home)
		c.Dir = home
	}
	return c
}
