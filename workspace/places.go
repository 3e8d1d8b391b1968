package workspace

import (
	"fmt"
	"net"
	"net/url"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ydrion/core/finding"
)

// Place is where files come from and go to: a folder of this machine, or a server.
type Place struct {
	Name   string
	Folder string // of this machine; empty: it is a server

	Kind         string   // sftp, ftp, webdav, s3, imap, http, smtp or mllp; empty: a folder
	Address      *url.URL // of the server, without user and password; its path is where the routes' folders are
	User         string
	Password     Secret // or, of s3, the secret key
	KeyFile      string // a private key, by which the server knows us
	Passphrase   Secret // of the key
	HostKeys     []string
	KnownHosts   string // a file with the keys of servers
	Old          bool   // algorithms that are known to be weak may be used, where the server has no others
	TLS          string // of ftp, imap and smtp: explicit, implicit or none; of mllp implicit, if its address begins with mllps, as of imap with imaps
	Authorities  string // a file with the certificates of those who vouch for the server
	Region       string
	Token        Secret   // of http, imap and smtp: proves who we are
	TokenHeader  string   // of http: that shows the token, as it is; empty: Authorization, as Bearer
	TokenAddress *url.URL // where such a token is got instead (OAuth 2.0, RFC 6749); nil: nowhere
	Client       string   // the name under which we are known there
	ClientSecret Secret
	Scope        []string // what the token is to be good for
	SigningKey   Secret   // of http: what is sent is signed by it
	Signature    string   // the header with the signature
	Method       string   // of http: POST, or PUT below the address
	Type         string   // of http: of the content; empty: by the name
	NextPage     []string // of http: where an answer in JSON says what follows it, as a JSON Pointer taken apart; nil: it does not
	NextBy       string   // the parameter that this is asked for with; empty: it is an address
	Repeats      bool     // what is sent a second time does no harm, or is known
	Receives     bool     // others send to us
	ListenOn     string   // where, of mllp
	Certificate  string   // a file with the certificate that we show; its key is KeyFile
	Largest      int64    // bytes of what is received, or of an answer that is got
	From         string   // of smtp
	To           []string // of smtp
	Connections  int      // at once, of this service
	Patience     time.Duration
	Active       bool           // of ftp: the server connects to us for data
	DataAddress  net.IP         // where it reaches us then; nil: where we are
	DataPorts    [2]int         // at one of these; 0: at any
	Zone         *time.Location // of times that come without one
}

// Secret says where something secret is. It is read when it is needed, and never shown.
type Secret struct{ Variable, File string }

// Any tells whether there is one.
func (s Secret) Any() bool { return s.Variable != "" || s.File != "" }

// secret reads where something secret is: `password from` names a variable, `password file` a file.
func (m *mapping) secret(of string) Secret {
	s := Secret{m.text(of + " from"), m.text(of + " file")}
	if s.Variable != "" && s.File != "" {
		m.bad(m.where(of+" file"), "workspace.value", "either the variable with the %s (%s from) or a file with it is given", of, of)
	}
	if m.has(of) {
		m.bad(m.where(of), "workspace.value", "the %s itself does not stand here: name the variable (%s from) or the file (%s file) that holds it", of, of, of)
		m.get(of)
	}
	return s
}

// Schemes are the kinds of servers, by the schemes of their addresses. Servers that are spoken to by HTTP say their kind.
var schemes = map[string][]string{"sftp": {"sftp"}, "ftp": {"ftp"}, "webdav": {"https", "http"}, "s3": {"https", "http"}, "http": {"https", "http"}, "smtp": {"smtp"}, "mllp": {"mllp", "mllps"}, "imap": {"imap", "imaps"}}

// Messages tells whether outputs are sent to the place one by one, with an answer to each: there are no folders, and no files to
// take.
func (p *Place) Messages() bool { return p.Kind == "http" || p.Kind == "smtp" || p.Kind == "mllp" }

// Objects tells whether files appear whole there under their names, and nothing is renamed.
func (p *Place) Objects() bool { return p.Kind == "s3" }

// Kinds are the kinds of servers that places can be.
func Kinds() []string {
	out := make([]string, 0, len(schemes))
	for k := range schemes {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// places reads the places of an environment.
func (e *Environment) places(m *mapping) {
	for name, v := range m.values {
		m.known = append(m.known, name)
		if strings.ContainsAny(name, "{}/") {
			m.bad(m.where(name), "workspace.name", "a place's name has neither braces nor slashes")
		}
		switch v.Value.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
		default:
			p := Place{Name: name, Folder: m.required(name)}
			if scheme, _, remote := strings.Cut(p.Folder, "://"); remote {
				m.bad(m.where(name), "workspace.value", "a server has settings of its own: write `%s: { address: %s://..., user: ... }`", name, scheme)
			}
			e.Places[name] = p
			continue
		}
		of := m.sub(name)
		p := of.server()
		p.Name = name
		e.Places[name] = p
		of.done()
	}
}

// server reads the settings of a server.
func (m *mapping) server() Place {
	p := Place{User: m.text("user"), Password: m.secret("password"), KeyFile: m.text("key file"), Passphrase: m.secret("passphrase"), HostKeys: m.listOrText("host key"), KnownHosts: m.text("known hosts"),
		TLS: m.oneOf("tls", "", "explicit", "implicit", "none"), Authorities: m.text("authorities"), Region: m.text("region"),
		Token: m.secret("token"), TokenHeader: m.text("token header"), Client: m.text("client"), ClientSecret: m.secret("client secret"), Scope: m.listOrText("scope"), SigningKey: m.secret("signing key"), Signature: m.text("signature"), Method: m.oneOf("method", "POST", "POST", "PUT"), Type: m.text("type"), From: m.text("from"), To: m.listOrText("to"),
		Connections: m.number("connections"), Patience: m.duration("patience", 30*time.Second), Zone: m.zone("zone")}
	if !m.has("zone") {
		p.Zone = time.UTC
	}
	if m.has("signature") && !p.SigningKey.Any() {
		m.bad(m.where("signature"), "workspace.missing", "what is signed needs a key: name the variable (signing key from) or the file (signing key file) that holds it")
	}
	if p.Signature != "" && (!headerForm.MatchString(p.Signature) || slices.Contains(ownHeaders, strings.ToLower(p.Signature))) {
		m.bad(m.where("signature"), "workspace.value", "%q cannot be the header of a signature", p.Signature)
	}
	if p.TokenHeader != "" && !p.Token.Any() && !m.has("token address") {
		m.bad(m.where("token header"), "workspace.missing", "the token that the header shows is not said: name the variable (token from) or the file (token file) that holds it")
	}
	if p.TokenHeader != "" && (!headerForm.MatchString(p.TokenHeader) || slices.Contains(ownHeaders, strings.ToLower(p.TokenHeader))) {
		m.bad(m.where("token header"), "workspace.value", "%q cannot be the header of a token; a bearer token needs none", p.TokenHeader)
	}
	if p.Signature == "" {
		p.Signature = "Ydrion-Signature"
	}
	if at := m.text("next page"); at != "" {
		if !strings.HasPrefix(at, "/") {
			m.bad(m.where("next page"), "workspace.value", "%q is not a JSON Pointer such as /links/next, or /link/relation=next/url for the one of a list whose relation is next", at)
		}
		p.NextPage = strings.Split(strings.TrimPrefix(at, "/"), "/")
		for i, name := range p.NextPage {
			p.NextPage[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(name)
		}
	}
	if p.NextBy = m.text("next page parameter"); p.NextBy != "" && p.NextPage == nil {
		m.bad(m.where("next page parameter"), "workspace.missing", "where the answer says what follows it is missing: say it with `next page`")
	}
	p.Old = m.oneOf("old algorithms", "refused", "refused", "allowed") == "allowed"
	p.Active = m.oneOf("data connections", "passive", "passive", "active") == "active"
	if p.DataAddress = net.ParseIP(m.text("data address")); p.DataAddress == nil && m.text("data address") != "" {
		m.bad(m.where("data address"), "workspace.value", "%q is not an address: say it as in 192.0.2.7", m.text("data address"))
	}
	if ports := m.text("data ports"); ports != "" {
		if n, err := fmt.Sscanf(ports+"\n", "%d-%d\n", &p.DataPorts[0], &p.DataPorts[1]); n != 2 || err != nil || p.DataPorts[0] < 1 || p.DataPorts[1] > 65535 || p.DataPorts[0] > p.DataPorts[1] {
			m.bad(m.where("data ports"), "workspace.value", "%q are not ports: say them as in 50000-50099", ports)
		}
	}
	for _, key := range []string{"data address", "data ports"} {
		if m.has(key) && !p.Active {
			m.bad(m.where(key), "workspace.value", "%s is for servers that connect to us: say `data connections: active` if this one does", key)
		}
	}
	p.Repeats = m.oneOf("sent twice", "uncertain", "uncertain", "harmless") == "harmless"
	switch {
	case !m.has("connections"):
		p.Connections = 2
		if strings.HasPrefix(m.text("address"), "mllp") {
			p.Connections = 1 // messages keep their order
		}
	case p.Connections < 1 || p.Connections > 100:
		m.bad(m.where("connections"), "workspace.value", "connections is from 1 to 100")
	}
	if p.Patience < time.Second {
		m.bad(m.where("patience"), "workspace.value", "patience, how long an answer of the server is waited for, is a second or more")
	}
	p.ListenOn, p.Certificate, p.Largest = m.text("listen on"), m.text("certificate"), m.bytes("largest")
	if kind := m.text("kind"); !m.has("address") && (kind == "http" || kind == "mllp") {
		m.receives(&p, kind)
		return p
	}
	if m.has("listen on") {
		m.bad(m.where("listen on"), "workspace.value", "listen on is a setting of places that others send to (kind http or mllp), which have no address")
	}
	if p.Largest == 0 {
		p.Largest = 1 << 30
	}
	m.address(&p)
	m.tokens(&p)
	m.fits(&p)
	return p
}

// tokens reads where a token is got by which the server knows us.
func (m *mapping) tokens(p *Place) {
	if p.Token.Any() && p.Password.Any() {
		m.bad(m.at, "workspace.value", "either a token or a password lets us in: leave one of them out")
	}
	if !m.has("token address") {
		for _, key := range []string{"client", "client secret from", "client secret file", "scope"} {
			if m.has(key) {
				m.bad(m.where(key), "workspace.missing", "%s is for getting a token: say where (token address)", key)
			}
		}
		return
	}
	switch u, err := url.Parse(m.text("token address")); {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil:
		m.bad(m.where("token address"), "workspace.value", "%q is not an address such as https://login.skerry.example/oauth2/token", m.text("token address"))
	case u.Scheme == "http" && !net.ParseIP(u.Hostname()).IsLoopback():
		m.bad(m.where("token address"), "workspace.value", "a token is got over https (RFC 6749, 3.2): everybody on the way could read the secret")
	default:
		u.Fragment = ""
		p.TokenAddress = u
	}
	if p.Token.Any() || p.Password.Any() {
		m.bad(m.where("token address"), "workspace.value", "either a token is got (token address), or there is one (token from, token file), or a password")
	}
	if m.required("client"); !p.ClientSecret.Any() {
		m.bad(m.at, "workspace.missing", "the secret by which a token is got is not said: name the variable (client secret from) or the file (client secret file) that holds it")
	}
}

// Tokened tells whether the server knows us by a token.
func (p *Place) Tokened() bool { return p.Token.Any() || p.TokenAddress != nil }

// receives reads the settings of a place that others send to.
func (m *mapping) receives(p *Place, kind string) {
	p.Kind, p.Receives = kind, true
	if p.Largest == 0 {
		p.Largest = 64 << 20
	}
	may := []string{"kind", "notes", "largest", "patience", "token from", "token file", "token header", "signing key from", "signing key file", "signature"}
	switch kind {
	case "mllp":
		may = []string{"kind", "notes", "largest", "patience", "listen on", "certificate", "key file", "authorities", "connections"}
		if m.has("authorities") && p.Certificate == "" {
			m.bad(m.where("authorities"), "workspace.missing", "senders show certificates only to one who shows his own (certificate, key file)")
		}
		if m.required("listen on"); p.ListenOn != "" {
			if _, _, err := net.SplitHostPort(p.ListenOn); err != nil {
				m.bad(m.where("listen on"), "workspace.value", "%q is not an address of this machine with a port, such as 127.0.0.1:2575 or :2575", p.ListenOn)
			}
		}
		if !m.has("connections") {
			p.Connections = 50
		}
		if (p.Certificate == "") != (p.KeyFile == "") {
			m.bad(m.at, "workspace.missing", "a certificate has its key in a file, too (key file)")
		}
	case "http":
		if !p.Token.Any() && !p.SigningKey.Any() {
			m.bad(m.at, "workspace.missing", "what lets others in is not said: name the variable (token from) or the file (token file) that holds the token, or the key of signatures (signing key from, signing key file)")
		}
	}
	for key := range m.values {
		if !slices.Contains(may, key) {
			m.bad(m.where(key), "workspace.value", "%s is not a setting of places of the kind %s that others send to; an address would make it one that outputs are sent to", key, kind)
		}
	}
	m.text("address")
}

// address reads where a server is, and what kind it is of.
func (m *mapping) address(p *Place) {
	text := m.required("address")
	if text == "" {
		m.text("kind")
		return
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Opaque != "" {
		m.bad(m.where("address"), "workspace.value", "%q is not an address such as sftp://files.holm.example/incoming", text)
		m.text("kind")
		return
	}
	if u.User != nil {
		if _, has := u.User.Password(); has {
			m.bad(m.where("address"), "workspace.value", "a password does not stand in an address: name the variable (password from) or the file (password file) that holds it")
		}
		if p.User == "" {
			p.User = u.User.Username()
		}
		u.User = nil
	}
	u.Fragment = ""
	query := u.RawQuery
	u.RawQuery = ""
	var of []string
	for kind, list := range schemes {
		if slices.Contains(list, u.Scheme) {
			of = append(of, kind)
		}
	}
	sort.Strings(of)
	switch kind := m.oneOf("kind", "", Kinds()...); {
	case len(of) == 0:
		m.bad(m.where("address"), "workspace.value", "places of %s are not known; there are %s", u.Scheme, strings.Join(Kinds(), ", "))
	case kind == "" && len(of) > 1:
		m.bad(m.where("address"), "workspace.missing", "the place says which kind it is of: kind is %s", strings.Join(of, " or "))
	case kind == "":
		p.Kind = of[0]
	case !slices.Contains(of, kind):
		m.bad(m.where("kind"), "workspace.value", "the address of a place of the kind %s begins with %s://, not %s://", kind, schemes[kind][0], u.Scheme)
	default:
		p.Kind = kind
	}
	if p.Address = u; p.Kind == "http" {
		u.RawQuery = query
	}
}

// encrypted are the kinds of servers that are spoken to by TLS.
var encrypted = []string{"ftp", "webdav", "s3", "imap", "http", "smtp", "mllp"}

// tokened are the kinds of servers that can know us by a token.
var tokened = []string{"http", "imap", "smtp"}

// only says which settings only servers of some kinds have.
var only = []struct {
	key   string
	kinds []string
}{
	{"key file", append([]string{"sftp"}, encrypted...)}, {"certificate", encrypted}, {"passphrase from", []string{"sftp"}}, {"passphrase file", []string{"sftp"}}, {"host key", []string{"sftp"}}, {"known hosts", []string{"sftp"}}, {"old algorithms", append([]string{"sftp"}, encrypted...)},
	{"largest", []string{"http"}}, {"next page", []string{"http"}}, {"next page parameter", []string{"http"}}, {"data connections", []string{"ftp"}}, {"data address", []string{"ftp"}}, {"data ports", []string{"ftp"}},
	{"tls", []string{"ftp", "imap", "smtp"}}, {"zone", []string{"ftp"}}, {"region", []string{"s3"}}, {"authorities", encrypted},
	{"token from", tokened}, {"token file", tokened}, {"token header", []string{"http"}}, {"token address", tokened}, {"client", tokened}, {"client secret from", tokened}, {"client secret file", tokened}, {"scope", tokened}, {"signing key from", []string{"http"}}, {"signing key file", []string{"http"}}, {"signature", []string{"http"}}, {"method", []string{"http"}}, {"type", []string{"http"}}, {"sent twice", []string{"http", "smtp"}}, {"from", []string{"smtp"}}, {"to", []string{"smtp"}},
}

// fits says what is missing or out of place among a server's settings.
func (m *mapping) fits(p *Place) {
	if p.Kind == "" {
		return // it has been said
	}
	for _, o := range only {
		if m.has(o.key) && !slices.Contains(o.kinds, p.Kind) {
			m.bad(m.where(o.key), "workspace.value", "%s is a setting of places of the kind %s, not %s", o.key, strings.Join(o.kinds, ", "), p.Kind)
		}
	}
	if p.Kind != "sftp" && (p.Certificate == "") != (p.KeyFile == "") {
		m.bad(m.at, "workspace.missing", "a certificate that we show has its key in a file, too: certificate and key file")
	}
	switch p.Kind {
	case "sftp":
		if len(p.HostKeys) == 0 && p.KnownHosts == "" {
			*m.out = append(*m.out, finding.Warn("workspace.missing", m.at, "which key the server must show is not said, and it is not spoken to until it is: give the fingerprint (host key: \"SHA256:...\") or a file (known hosts); `ydrion places try` shows the one that it has"))
		}
		for _, k := range p.HostKeys {
			if !strings.HasPrefix(k, "SHA256:") {
				m.bad(m.where("host key"), "workspace.value", "%q is not the fingerprint of a key, such as SHA256:uNiVztksCsDhcc0u9e8BrU...", k)
			}
		}
		if p.KeyFile == "" && !p.Password.Any() {
			m.bad(m.at, "workspace.missing", "how the server knows us is not said: name a private key (key file), or a password (password from, password file)")
		}
	case "smtp":
		if m.required("from"); p.Tokened() && p.User == "" {
			m.required("user")
		}
		if p.TLS == "" {
			m.bad(m.at, "workspace.missing", "whether the connection is encrypted is not said: tls is explicit (the usual way), implicit or none")
		}
	case "http":
		p.Repeats = p.Repeats || p.Method == "PUT" // RFC 9110, 9.2.2
	case "mllp":
		p.Repeats = true // the receiver knows a message by its control id
		if p.Address.Scheme == "mllps" {
			p.TLS = "implicit"
		}
		if p.Address.Port() == "" {
			m.bad(m.where("address"), "workspace.value", "the address of a place of the kind mllp has a port: mllp://laboratory.example:2575")
		}
	case "ftp", "imap":
		if p.Address.Scheme == "imaps" {
			if p.TLS != "" && p.TLS != "implicit" {
				m.bad(m.where("tls"), "workspace.value", "an address that begins with imaps means that tls is implicit")
			}
			p.TLS = "implicit"
		}
		if p.TLS == "" {
			m.bad(m.at, "workspace.missing", "whether the connection is encrypted is not said: tls is explicit (the usual way), implicit, or none, by which everybody on the way can read what is fetched, and passwords")
		}
	case "s3":
		if strings.Trim(p.Address.Path, "/") == "" {
			m.bad(m.where("address"), "workspace.value", "the address names the bucket, too: https://store.example/bucket")
		}
	}
	if p.User == "" && (p.Kind == "sftp" || p.Kind == "s3" || p.Kind == "imap") {
		m.required("user")
	}
}

// Where is a place in words, without anything secret.
func (p *Place) Where() string {
	if p.Kind == "" {
		return p.Folder
	}
	switch {
	case p.Receives && p.ListenOn != "":
		return "others send to " + p.ListenOn
	case p.Receives:
		return "others post to /receive/" + p.Name
	}
	return p.Address.String()
}

// Port is the server's host and port.
func (p *Place) Port() string {
	usual := map[string]int{"sftp": 22, "ftp": 21, "https": 443, "http": 80, "smtp": 587, "imap": 143}[p.Address.Scheme]
	if p.TLS == "implicit" {
		usual = map[string]int{"ftp": 990, "smtp": 465, "imap": 993}[p.Kind]
	}
	port := p.Address.Port()
	if port == "" {
		port = strconv.Itoa(usual)
	}
	return p.Address.Hostname() + ":" + port
}

// Whereabouts is Resolve for comparing: two places on the same server give the same, however they are called.
func (e *Environment) Whereabouts(folder, base string) (string, error) {
	resolved, err := e.Resolve(folder, base)
	name, below, is := Distant(resolved)
	if err != nil || !is {
		return resolved, err
	}
	p := e.Places[name]
	if p.Address == nil || p.Messages() {
		return resolved, nil
	}
	at := path.Join("/", p.Address.Path, below)
	if p.Kind != "imap" {
		return p.Kind + "://" + p.Port() + at, nil
	}
	if at == "/" {
		at = "/INBOX"
	}
	return p.Kind + "://" + url.PathEscape(p.User) + "@" + p.Port() + at, nil // each user has mailboxes of his own
}

// Folders makes places of folders of this machine, by their names.
func Folders(of map[string]string) map[string]Place {
	out := map[string]Place{}
	for name, folder := range of {
		out[name] = Place{Name: name, Folder: folder}
	}
	return out
}

// Distant splits a resolved folder that is at a place on a server: "{holm}/outgoing" into holm and /outgoing.
func Distant(folder string) (place, below string, is bool) {
	if !strings.HasPrefix(folder, "{") {
		return "", "", false
	}
	place, below, is = strings.Cut(folder[1:], "}")
	return place, path.Clean("/" + below), is
}

// Resolve replaces {place} at the beginning of a folder by the environment's
// folder. A relative result is below base. A folder on a server stays below its place: see Distant.
func (e *Environment) Resolve(folder, base string) (string, error) {
	if strings.HasPrefix(folder, "{") {
		name, rest, ok := strings.Cut(folder[1:], "}")
		if !ok {
			return "", fmt.Errorf("{ is not closed in %q", folder)
		}
		where, ok := e.Places[name]
		if !ok {
			var names []string
			for n := range e.Places {
				names = append(names, n)
			}
			sort.Strings(names)
			return "", fmt.Errorf("environment %s has no place %q; it has %s", e.Name, name, strings.Join(names, ", "))
		}
		if where.Kind != "" {
			return strings.TrimSuffix("{"+name+"}"+path.Clean("/"+rest), "/"), nil
		}
		folder = where.Folder + rest
	}
	if !path.IsAbs(folder) {
		folder = path.Join(base, folder)
	}
	return path.Clean(folder), nil
}
