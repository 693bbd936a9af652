package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"
)

// setting finds a value for a flag: the environment first, then the one file of
// settings. The flag itself, when given, goes before both.
func setting(name string) cli.ValueSourceChain {
	chain := cli.EnvVars("GENARCH_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_")))
	chain.Append(cli.NewValueSourceChain(fileSource{name}))
	return chain
}

// fileSource reads one setting from the file of settings.
type fileSource struct{ name string }

// Lookup finds the setting.
func (f fileSource) Lookup() (string, bool) {
	value, there := settings().values[f.name]
	return value, there
}

// String names the source in help and errors.
func (f fileSource) String() string { return fmt.Sprintf("setting %q of %s", f.name, settings().file) }

// GoString is the same.
func (f fileSource) GoString() string { return f.String() }

type settingsFile struct {
	file   string
	values map[string]string
	err    error
}

// settings reads the file once: GENARCH_SETTINGS names it, else it is
// genarch/genarch.yaml in the user's configuration folder, or in /etc for root.
var settings = sync.OnceValue(func() settingsFile {
	s := settingsFile{file: os.Getenv("GENARCH_SETTINGS")}
	named := s.file != ""
	if !named {
		dir := "/etc"
		if os.Getuid() != 0 {
			dir, _ = os.UserConfigDir()
		}
		s.file = filepath.Join(dir, "genarch", "genarch.yaml")
	}
	text, err := os.ReadFile(s.file)
	if err != nil {
		if named || !os.IsNotExist(err) {
			s.err = fmt.Errorf("the file of settings: %w", err)
		}
		return s
	}
	if err := yaml.Unmarshal(text, &s.values); err != nil {
		s.err = fmt.Errorf("the file of settings %s: %w", s.file, err)
	}
	for name := range s.values {
		if !knownSettings[name] {
			s.err = fmt.Errorf("the file of settings %s: there is no setting %q", s.file, name)
		}
	}
	return s
})

// dataFolder is where the service keeps what it needs, when nothing is said.
func dataFolder(name string) string {
	if os.Getuid() == 0 {
		return filepath.Join("/var/lib", name)
	}
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, name)
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return filepath.Join(os.TempDir(), name)
	}
	return filepath.Join(home, ".local", "share", name)
}
