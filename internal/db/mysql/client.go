package mysql

import (
	"cmp"
	"net"
	"net/url"
	"os"
	"path/filepath"

	"gopkg.in/ini.v1"

	"ambertray/internal/db"
)

// client is what the section [client] of ~/.my.cnf says, as the servers' own clients read it
// (MySQL manual, "Using Option Files").
type client struct{ user, password, host, port, socket string }

// clientFile reads it; a file that is not there, or cannot be read, says nothing.
func clientFile() (c client) {
	home, err := os.UserHomeDir()
	if err != nil {
		return c
	}
	f, err := ini.LoadSources(ini.LoadOptions{AllowBooleanKeys: true, IgnoreInlineComment: true,
		SkipUnrecognizableLines: true}, filepath.Join(home, ".my.cnf"))
	if err != nil {
		return c
	}
	s := f.Section("client")
	return client{s.Key("user").String(), s.Key("password").String(), s.Key("host").String(), s.Key("port").String(),
		s.Key("socket").String()}
}

// address is where the server is: the host of the URL, or what the client's file says, of
// which a socket counts first.
func (c client) address(u *url.URL) (host, socket string) {
	switch {
	case u.Host != "":
		return u.Host, ""
	case u.Query().Get("socket") != "":
		return "", u.Query().Get("socket")
	case c.host != "" && c.host != "localhost":
		return net.JoinHostPort(c.host, cmp.Or(c.port, "3306")), ""
	}
	return "", c.socket
}

// login is the user and the password: those of the URL, of the client's file, and what else
// there is, in this order.
func (c client) login(at *db.Address) (user, password string, err error) {
	named := ""
	if at.URL.User != nil {
		named = at.URL.User.Username()
		if _, has := at.URL.User.Password(); has {
			return at.Login()
		}
	}
	if at.Given == nil && c.password != "" && (named == "" || named == c.user) {
		return cmp.Or(named, c.user), c.password, nil
	}
	user, password, err = at.Login()
	return cmp.Or(user, c.user), password, err
}
