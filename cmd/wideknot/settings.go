package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/spf13/viper"

	"wideknot/internal/line"
	"wideknot/internal/server/desk"
	"wideknot/internal/server/identity"
	"wideknot/internal/server/store"
)

// settings are what the server and the commands on its data are started with.
type settings struct {
	folder, dsn, adminDSN, masterKeyFile, config string

	listen, publicURL, tlsCert, tlsKey           string
	plainHTTP, verbose                           bool
	trustedProxies, metricsFrom                  []string
	rate                                         int
	lineListen, enrolListen                      string
	enrolAt, lineAt                              string
	oidcIssuer, oidcClient, oidcSecret, oidcName string
	tell                                         []string
	mailServer, mailFrom, mailUser               string
	mailPlain                                    bool

	masterKey, oidcSecretText, mailPassword string // from the environment or the file only
}

const settingsHelp = `
Every setting can be given, in this order of precedence,
  as a flag                        --public-url https://knot.example
  in the environment               WIDEKNOT_PUBLIC_URL=https://knot.example
  in a YAML file (--config FILE)   public-url: https://knot.example
Secrets are best kept off the command line: WIDEKNOT_DSN, WIDEKNOT_ADMIN_DSN, WIDEKNOT_MASTER_KEY (the
master key itself, instead of a file), WIDEKNOT_OIDC_SECRET and WIDEKNOT_MAIL_PASSWORD, or the file.`

// addData adds the flags that say where the data is.
func (s *settings) addData(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.folder, "var", "var", "folder for the database, the master key and logs")
	f.StringVar(&s.dsn, "dsn", "", "an outside MariaDB, as USER:PASSWORD@tcp(HOST:PORT)/NAME (default: a private one in the folder)")
	f.StringVar(&s.adminDSN, "admin-dsn", "", "the same database, as an account that may make and change tables and give rights (default: --dsn)")
	f.StringVar(&s.masterKeyFile, "master-key-file", "", "file of the master key that seals secrets (default: master.key in the folder)")
	f.StringVar(&s.config, "config", "", "YAML file of settings")
	c.PreRunE = func(c *cobra.Command, _ []string) error { return s.read(c.Flags()) }
}

// addServer adds the flags of the server.
func (s *settings) addServer(c *cobra.Command) {
	s.addData(c)
	c.Long = c.Short + ".\n" + settingsHelp
	f := c.Flags()
	f.StringVar(&s.listen, "listen", "127.0.0.1:8080", "address and port to serve on; others than loopback ones need TLS (or --plain-http) and an administrator's password")
	f.StringVar(&s.publicURL, "public-url", "", "how browsers reach the server, when not by the address it listens on")
	f.StringVar(&s.tlsCert, "tls-cert", "", "file of the TLS certificate with its chain (PEM)")
	f.StringVar(&s.tlsKey, "tls-key", "", "file of the certificate's private key (PEM)")
	f.BoolVar(&s.plainHTTP, "plain-http", false, "serve other than loopback addresses without TLS, because something in front does it")
	f.StringSliceVar(&s.trustedProxies, "trusted-proxy", nil, "addresses or prefixes of proxies whose X-Forwarded headers are believed")
	f.StringSliceVar(&s.metricsFrom, "metrics-from", nil, "addresses that may read /metrics, besides this machine")
	f.IntVar(&s.rate, "rate", 200, "requests a second that one address may send; 0 for no limit")
	f.StringVar(&s.lineListen, "line-listen", "", fmt.Sprintf("address and port that gateways call, such as 0.0.0.0:%d (TCP; UDP answers STUN); empty for no gateways", line.Port))
	f.StringVar(&s.enrolListen, "enrol-listen", "", "address and port where gateways get certificates (EST), such as 0.0.0.0:4337")
	f.StringVar(&s.lineAt, "line-at", "", "HOST:PORT by which gateways call the servers, several with commas (default: --line-listen)")
	f.StringVar(&s.enrolAt, "enrol-at", "", "HOST:PORT by which gateways reach --enrol-listen, several with commas (default: --enrol-listen)")
	f.StringVar(&s.oidcIssuer, "oidc-issuer", "", "URL of an OpenID Connect issuer that people may sign in with")
	f.StringVar(&s.oidcClient, "oidc-client", "", "our client ID there")
	f.StringVar(&s.oidcSecret, "oidc-secret-file", "", "file of our client secret there")
	f.StringVar(&s.oidcName, "oidc-name", "your organisation", "how the issuer is called on the page where one signs in")
	f.StringSliceVar(&s.tell, "tell", nil, "hosts, as HOST or HOST:PORT, to whose webhooks events may be told; none by default")
	f.StringVar(&s.mailServer, "mail-server", "", "HOST:PORT of the server that takes mail about events; empty for no mail")
	f.StringVar(&s.mailFrom, "mail-from", "", "address that mail comes from")
	f.StringVar(&s.mailUser, "mail-user", "", "account there, with WIDEKNOT_MAIL_PASSWORD; empty for none")
	f.BoolVar(&s.mailPlain, "mail-plain", false, "send mail without TLS, to a server on a loopback address")
	f.BoolVar(&s.verbose, "verbose", false, "log every request")
}

// read fills what was not given as a flag from the environment and the file.
func (s *settings) read(flags *pflag.FlagSet) error {
	v := viper.New()
	v.SetEnvPrefix("wideknot")
	v.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	v.AutomaticEnv()
	for _, secret := range []string{"master-key", "oidc-secret", "mail-password"} {
		_ = v.BindEnv(secret) // fails for an empty name only
	}
	if s.config == "" {
		s.config = v.GetString("config")
	}
	if s.config != "" {
		v.SetConfigFile(s.config)
		v.SetConfigType("yaml")
		if err := v.ReadInConfig(); err != nil {
			return unusable(fmt.Errorf("reading the settings in %s: %w", s.config, err))
		}
		for _, key := range v.AllKeys() {
			if flags.Lookup(key) == nil && key != "master-key" && key != "oidc-secret" && key != "mail-password" {
				return unusable(fmt.Errorf("%s: there is no setting %q; see wideknot serve --help", s.config, key))
			}
		}
	}
	var failed error
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Changed || !v.IsSet(f.Name) || f.Name == "config" || f.Name == "help" {
			return
		}
		text := v.GetString(f.Name)
		if f.Value.Type() == "stringSlice" {
			text = strings.Join(v.GetStringSlice(f.Name), ",")
		}
		if err := f.Value.Set(text); err != nil {
			failed = unusable(fmt.Errorf("the setting %s is %q: %w", f.Name, text, err))
		}
	})
	s.masterKey, s.oidcSecretText, s.mailPassword = v.GetString("master-key"), v.GetString("oidc-secret"), v.GetString("mail-password")
	return failed
}

func (s *settings) keyFile() string {
	if s.masterKeyFile != "" {
		return s.masterKeyFile
	}
	return filepath.Join(s.folder, "master.key")
}

// sealer reads the master key.
func (s *settings) sealer() (*identity.Sealer, error) {
	if s.masterKey != "" {
		sealer, err := identity.ParseSealer(s.masterKey)
		if err != nil {
			return nil, fmt.Errorf("the master key of the environment: %w", err)
		}
		return sealer, nil
	}
	return identity.LoadSealer(s.keyFile())
}

// sealerFor reads the master key of a database, or makes it where nothing was
// sealed yet. A key that is missing beside sealed secrets is never replaced.
func (s *settings) sealerFor(ctx context.Context, db *store.Store) (*identity.Sealer, error) {
	sealer, err := s.sealer()
	missing := errors.Is(err, identity.ErrNoKey)
	if err != nil && !missing {
		return nil, err
	}
	if missing {
		sealer = nil
	}
	held, err := desk.CheckKey(ctx, db, sealer)
	switch {
	case errors.Is(err, desk.ErrWrongKey):
		return nil, fmt.Errorf("%w: put the key they were sealed with into %s, below the present one, and start again", err, s.keyFile())
	case err != nil:
		return nil, err
	case missing && held:
		return nil, fmt.Errorf("%w (%s), but the database holds secrets that were sealed with it: put your copy of it back and start again. "+
			"Without it the private keys of gateways are lost", identity.ErrNoKey, s.keyFile())
	case missing:
		return identity.NewSealer(s.keyFile())
	}
	return sealer, nil
}

func (s *settings) databaseFolder() string { return filepath.Join(s.folder, "mariadb") }

// database names the database, starting a private server unless another is
// named, or runs already. stop ends what was started.
func (s *settings) database(ctx context.Context, share bool) (access store.Access, stop func(), err error) {
	if s.dsn != "" {
		admin := s.adminDSN
		if admin == "" {
			admin = s.dsn
		}
		return store.Access{DSN: s.dsn, Admin: admin}, func() {}, nil
	}
	if err := os.MkdirAll(s.folder, 0o700); err != nil {
		return access, nil, fmt.Errorf("making the folder %s: %w", s.folder, err)
	}
	server, err := store.StartServer(ctx, s.databaseFolder())
	if errors.Is(err, store.ErrRunning) && share {
		access, err = store.Running(s.databaseFolder())
		return access, func() {}, err
	} else if err != nil {
		return access, nil, err
	}
	return server.Access, server.Stop, nil
}

// present refuses a folder in which there is no database to work on.
func (s *settings) present() error {
	if s.dsn == "" && !store.Present(s.databaseFolder()) {
		return unusable(fmt.Errorf("%w (%s): name the right one with --var", store.ErrNoDatabase, s.folder))
	}
	return nil
}

// provider is the OpenID Connect provider of the settings, nil for none.
func (s *settings) provider(url string) (*identity.Provider, error) {
	if s.oidcIssuer == "" {
		return nil, nil
	}
	secret := s.oidcSecretText
	if s.oidcSecret != "" {
		text, err := os.ReadFile(s.oidcSecret)
		if err != nil {
			return nil, fmt.Errorf("reading the client secret: %w", err)
		}
		secret = strings.TrimSpace(string(text))
	}
	if s.oidcClient == "" {
		return nil, unusable(errors.New("--oidc-issuer needs --oidc-client"))
	}
	return &identity.Provider{
		Issuer: s.oidcIssuer, ClientID: s.oidcClient, ClientSecret: secret, Name: s.oidcName,
		Redirect: url + "/api/provider/arrive",
	}, nil
}
