// Package config reads what a person or a project has settled once: connections by name, and
// defaults for options.
//
// The model: there are up to two files, the person's own and the one of the folder that the
// program runs in; what both have, the folder's says. A folder may come from anybody: so
// its file may not name a command to run.
package config

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"ambertray/internal/phrase"
)

// File is the name of the files.
const File = "ambertray.yaml"

// A Connection is a database by a name.
type Connection struct {
	Name string `yaml:"-"`
	// From is the file that has it.
	From string `yaml:"-"`
	// URL has no password.
	URL string `yaml:"url"`
	// PasswordFile has it, or PasswordCommand prints it.
	PasswordFile    string   `yaml:"password_file"`
	PasswordCommand []string `yaml:"password_command"`
	// Schema, Mode and Tray are used where nothing else is said.
	Schema string `yaml:"schema"`
	Mode   string `yaml:"mode"`
	Tray   string `yaml:"tray"`
}

// Config is what all files say together.
type Config struct {
	// Files are those that there are.
	Files       []string
	Connections map[string]*Connection
	// Options are defaults, by the names of options.
	Options map[string]string
}

// content is one file.
type content struct {
	Connections map[string]*Connection `yaml:"connections"`
	Options     map[string]any         `yaml:"options"`
}

// Load reads the files: the one that AMBERTRAY_CONFIG names, else the person's own and
// the folder's.
func Load() (*Config, error) {
	c := &Config{Connections: map[string]*Connection{}, Options: map[string]string{}}
	if named := os.Getenv("AMBERTRAY_CONFIG"); named != "" {
		return c, c.read(named, true, true)
	}
	if dir, err := os.UserConfigDir(); err == nil {
		if err := c.read(filepath.Join(dir, "ambertray", File), true, false); err != nil {
			return c, err
		}
	}
	return c, c.read(File, false, false)
}

// read adds a file. own tells that it is the person's, needed that it has to be there.
func (c *Config) read(path string, own, needed bool) error {
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && !needed {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w\n  AMBERTRAY_CONFIG names it", path, err)
	}
	var in content
	d := yaml.NewDecoder(bytes.NewReader(b))
	d.KnownFields(true)
	if err := d.Decode(&in); err != nil && len(bytes.TrimSpace(b)) > 0 {
		return fmt.Errorf("%s: %w\n  it has connections and options; see docs/config.md", path, err)
	}
	c.Files = append(c.Files, path)
	for name, x := range in.Connections {
		if err := x.check(path, name, own); err != nil {
			return err
		}
		c.Connections[name] = x
	}
	for name, value := range in.Options {
		c.Options[name] = fmt.Sprint(value)
	}
	return nil
}

// check makes sure of a connection.
func (x *Connection) check(path, name string, own bool) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%s: connection %s: %s", path, name, fmt.Sprintf(format, args...))
	}
	switch {
	case x == nil || x.URL == "":
		return bad("it has no url")
	case hasPassword(x.URL):
		return bad("its url has a password, which anybody would find who looks into the file\n  " +
			"name a password_file")
	case strings.ContainsAny(name, ":/\\. "):
		return bad("a name has no colon, slash, point or space, which URLs and paths have")
	case len(x.PasswordCommand) > 0 && x.PasswordFile != "":
		return bad("a password comes from a file or a command, not both")
	case len(x.PasswordCommand) > 0 && !own:
		return bad("password_command is for your own file (%s): this one came with the folder", home())
	case len(x.PasswordCommand) > 0 && writable(path):
		return bad("others can write the file, and so have you run a command\n  chmod go-w %s", phrase.ShellWord(path))
	}
	x.Name, x.From = name, path
	for _, p := range []*string{&x.PasswordFile, &x.Tray} {
		if rest, is := strings.CutPrefix(*p, "~/"); is {
			dir, err := os.UserHomeDir()
			if err != nil {
				return bad("%v", err)
			}
			*p = filepath.Join(dir, rest)
		} else if *p != "" && !filepath.IsAbs(*p) {
			*p = filepath.Join(filepath.Dir(path), *p)
		}
	}
	return nil
}

// hasPassword reports whether there is one in a URL, in whichever of the usual places.
func hasPassword(raw string) bool {
	u, err := url.Parse(raw)
	if err != nil {
		return strings.Contains(raw, "@")
	}
	if _, has := u.User.Password(); has {
		return true
	}
	for k := range u.Query() {
		if k = strings.ToLower(k); strings.Contains(k, "passw") || strings.Contains(k, "pwd") {
			return true
		}
	}
	return false
}

func home() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "AMBERTRAY_CONFIG"
	}
	return filepath.Join(dir, "ambertray", File)
}

// writable reports whether others can write a file.
func writable(path string) bool {
	info, err := os.Stat(path)
	return err == nil && runtime.GOOS != "windows" && info.Mode().Perm()&0o022 != 0
}

// Names are those of the connections, in order.
func (c *Config) Names() (out []string) {
	for n := range c.Connections {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}
