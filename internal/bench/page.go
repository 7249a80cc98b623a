package bench

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"html"
	"net/http"

	"github.com/coder/websocket"
)

// servePages are the device's own web pages: a front page, a login form that
// sets a cookie and redirects to an absolute address, as many devices do, and a
// live page with a web socket.
func (d *Device) servePages(mux *http.ServeMux) {
	mux.HandleFunc("GET /{$}", d.frontPage)
	mux.HandleFunc("POST /login", d.login)
	mux.HandleFunc("GET /home", d.homePage)
	mux.HandleFunc("GET /live", d.live)
}

func (d *Device) title() string {
	return html.EscapeString(d.unit.model.Make + " " + d.unit.model.Name + " " + d.unit.Serial)
}

func (d *Device) page(w http.ResponseWriter, body string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprintf(w, "<!doctype html><title>%s</title><h1>%s</h1>%s", d.title(), d.title(), body)
}

func (d *Device) frontPage(w http.ResponseWriter, r *http.Request) {
	d.log(r, EventRead, "page", true)
	d.page(w, `<form method="post" action="`+d.serviceURL("/login")+`"><input name="user" value="operator"><button id="enter">Enter</button></form>`)
}

func (d *Device) login(w http.ResponseWriter, r *http.Request) {
	d.log(r, EventRead, "login", true)
	raw := make([]byte, 8)
	_, _ = rand.Read(raw) // never fails
	id := hex.EncodeToString(raw)
	d.mu.Lock()
	d.visits[id] = r.FormValue("user")
	d.mu.Unlock()
	http.SetCookie(w, &http.Cookie{Name: "visit", Value: id, Path: "/", HttpOnly: true, Domain: r.Host})
	http.Redirect(w, r, d.serviceURL("/home"), http.StatusFound)
}

func (d *Device) visitor(r *http.Request) string {
	c, err := r.Cookie("visit")
	if err != nil {
		return ""
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.visits[c.Value]
}

func (d *Device) homePage(w http.ResponseWriter, r *http.Request) {
	user := d.visitor(r)
	if user == "" {
		http.Redirect(w, r, d.serviceURL("/"), http.StatusFound)
		return
	}
	d.page(w, `<p id="who">Signed in as `+html.EscapeString(user)+`</p><p id="live">…</p><script>
const s = new WebSocket("ws`+d.serviceURL("/live")[len("http"):]+`");
s.onopen = () => s.send("are you `+html.EscapeString(d.unit.Serial)+`?");
s.onmessage = m => document.getElementById("live").textContent = "live: " + m.data;
</script>`)
}

// live sends back what comes in, for visitors who have signed in.
func (d *Device) live(w http.ResponseWriter, r *http.Request) {
	if d.visitor(r) == "" {
		http.Error(w, "sign in first", http.StatusForbidden)
		return
	}
	c, err := websocket.Accept(w, r, nil)
	if err != nil {
		return
	}
	defer c.CloseNow()
	for {
		kind, text, err := c.Read(r.Context())
		if err != nil || c.Write(r.Context(), kind, append([]byte(d.unit.Serial+" heard "), text...)) != nil {
			return
		}
	}
}
