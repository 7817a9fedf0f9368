package cli

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"eagerwindow/internal/core/fault"
)

// settings are what a service is started with: flags first, then EAGER_* variables, then a YAML file. Secrets have no flag.
type settings struct {
	listen, home, records, secret string
	log                           *slog.Logger
	publicURL                     string
	trustedProxies                []netip.Prefix
	metricsListen                 string
	certificate                   *certificate // nil: without TLS
}

// secretSettings have no flag.
var secretSettings = []string{"records", "secret"}

func settingFlags(c *cobra.Command) {
	f := c.Flags()
	f.String("listen", "127.0.0.1:8080", "address to serve at (EAGER_LISTEN)")
	f.String("home", defaultHome(), "folder of the private database (EAGER_HOME)")
	f.String("log-level", "info", "debug, info, warn or error (EAGER_LOG_LEVEL)")
	f.String("public-url", "", "scheme and host by which callers reach the service, where a proxy stands before it (EAGER_PUBLIC_URL)")
	f.String("trusted-proxies", "", "networks of proxies, such as 10.0.0.0/8, whose Forwarded and X-Forwarded-* fields count "+
		"(EAGER_TRUSTED_PROXIES)")
	f.String("tls-cert", "", "file of the TLS certificate; it is read again when it changes (EAGER_TLS_CERT)")
	f.String("tls-key", "", "file of its key (EAGER_TLS_KEY)")
	f.String("metrics-listen", "", "address to serve /metrics at without a token (EAGER_METRICS_LISTEN)")
	f.String("config", "", "YAML file of settings by these names, and of records and secret (EAGER_CONFIG)")
}

func (a *app) settings(c *cobra.Command) (*settings, error) {
	value := func(name string) string { return fromEnvironment(c, name) }
	file := map[string]string{}
	if path := value("config"); path != "" {
		var err error
		if file, err = settingsFile(path, settingNames(c)); err != nil {
			return nil, usage("read the settings: %w", err)
		}
	}
	setting := func(name string) string {
		flag := c.Flags().Lookup(name)
		if text, said := file[name]; said && (flag == nil || !flag.Changed) && os.Getenv(variable(name)) == "" {
			return text
		}
		return value(name)
	}
	var level slog.Level
	if err := level.UnmarshalText([]byte(setting("log-level"))); err != nil {
		return nil, usage("log-level is debug, info, warn or error, not %q", setting("log-level"))
	}
	home, err := filepath.Abs(setting("home"))
	if err != nil {
		return nil, err
	}
	set := &settings{listen: setting("listen"), home: home, records: setting("records"), secret: setting("secret"),
		metricsListen: setting("metrics-listen"),
		log:           slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: level}))}
	for name, address := range map[string]string{"listen": set.listen, "metrics-listen": set.metricsListen} {
		if _, _, err := net.SplitHostPort(address); err != nil && (address != "" || name == "listen") {
			return nil, usage("%s is an address and a port, such as 127.0.0.1:8080, not %q", name, address)
		}
	}
	if set.publicURL, err = publicURL(setting("public-url")); err != nil {
		return nil, err
	}
	if set.trustedProxies, err = networks(setting("trusted-proxies")); err != nil {
		return nil, err
	}
	if cert, key := setting("tls-cert"), setting("tls-key"); cert != "" || key != "" {
		if cert == "" || key == "" {
			return nil, usage("tls-cert and tls-key go together: the file of the certificate, and that of its key")
		}
		set.certificate = &certificate{certFile: cert, keyFile: key}
		if _, err := set.certificate.get(nil); err != nil {
			return nil, usage("read the TLS certificate: %w", err)
		}
	}
	return set, nil
}

// settingNames are the names of all settings.
func settingNames(c *cobra.Command) []string {
	names := slices.Clone(secretSettings)
	for _, name := range []string{"listen", "home", "log-level", "public-url", "trusted-proxies", "tls-cert", "tls-key", "metrics-listen"} {
		if c.Flags().Lookup(name) != nil {
			names = append(names, name)
		}
	}
	return names
}

func publicURL(text string) (string, error) {
	if text == "" {
		return "", nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
		return "", usage("public-url is a scheme and a host, such as https://api.saltmere.example, not %q", text)
	}
	return u.Scheme + "://" + u.Host, nil
}

func networks(text string) (list []netip.Prefix, err error) {
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := netip.ParsePrefix(part)
		if one, alone := netip.ParseAddr(part); err != nil && alone == nil {
			p, err = one.Prefix(one.BitLen())
		}
		if err != nil {
			return nil, usage("trusted-proxies are networks such as 10.0.0.0/8, or addresses, between commas; %q is none", part)
		}
		list = append(list, p.Masked())
	}
	return list, nil
}

// certificate is a TLS certificate in files, which are read again when they change.
type certificate struct {
	certFile, keyFile string

	mu      sync.Mutex
	loaded  *tls.Certificate
	changed time.Time // of the newer file, when it was loaded
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var changed time.Time
	for _, file := range []string{c.certFile, c.keyFile} {
		info, err := os.Stat(file)
		if err != nil {
			return c.orLoaded(err)
		}
		if info.ModTime().After(changed) {
			changed = info.ModTime()
		}
	}
	if c.loaded != nil && changed.Equal(c.changed) {
		return c.loaded, nil
	}
	pair, err := tls.LoadX509KeyPair(c.certFile, c.keyFile)
	if err != nil { // perhaps only one of the two files has been replaced yet
		return c.orLoaded(err)
	}
	c.loaded, c.changed = &pair, changed
	return c.loaded, nil
}

func (c *certificate) orLoaded(err error) (*tls.Certificate, error) {
	if c.loaded != nil {
		return c.loaded, nil
	}
	return nil, err
}

// variable is the name that a setting has in the environment.
func variable(name string) string {
	return "EAGER_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// fromEnvironment is a setting as a flag or a variable gives it, or its default. Secrets have no flag.
func fromEnvironment(c *cobra.Command, name string) string {
	flag := c.Flags().Lookup(name)
	if text := os.Getenv(variable(name)); text != "" && (flag == nil || !flag.Changed) {
		return text
	}
	if flag == nil {
		return ""
	}
	return flag.Value.String()
}

// settingsFile reads a YAML file of settings. What is in it must be one of the names, each with a text.
func settingsFile(path string, names []string) (map[string]string, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	out := map[string]string{}
	if len(root.Content) == 0 {
		return out, nil
	}
	mapping := root.Content[0]
	at := func(n *yaml.Node, format string, args ...any) error {
		return fmt.Errorf("%s, line %d, column %d: "+format, append([]any{path, n.Line, n.Column}, args...)...)
	}
	if mapping.Kind != yaml.MappingNode {
		return nil, at(mapping, "settings are lines such as listen: 127.0.0.1:8080")
	}
	var mistakes []error
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		name, value := mapping.Content[i], mapping.Content[i+1]
		switch _, twice := out[name.Value]; {
		case !slices.Contains(names, name.Value):
			mistakes = append(mistakes, at(name, "there is no setting %q%s", name.Value, fault.Suggest(name.Value,
				slices.Sorted(slices.Values(names)))))
		case twice:
			mistakes = append(mistakes, at(name, "%s stands twice", name.Value))
		case value.Kind != yaml.ScalarNode || value.Tag == "!!null":
			mistakes = append(mistakes, at(value, "%s is one text; write %s: %s", name.Value, name.Value, exampleSettings[name.Value]))
		default:
			out[name.Value] = value.Value
		}
	}
	return out, errors.Join(mistakes...)
}

var exampleSettings = map[string]string{"listen": "127.0.0.1:8080", "home": "/var/lib/eager", "log-level": "info",
	"public-url": "https://api.saltmere.example", "trusted-proxies": "10.0.0.0/8", "tls-cert": "/etc/eager/cert.pem",
	"tls-key": "/etc/eager/key.pem", "metrics-listen": "127.0.0.1:9090", "records": "postgres://eager@127.0.0.1/eager",
	"secret": "a long secret"}
