package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/docs"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/web"
)

const (
	defaultHTTP     = "127.0.0.1:8460"
	defaultDNS      = "127.0.0.1:8453"
	defaultRedirect = "127.0.0.1:8480"
	defaultSTUN     = "127.0.0.1:8478"
)

func logger(w io.Writer, level, format string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, usagef("--log-level %q is unknown; it is debug, info, warn or error", level)
	}
	switch o := (&slog.HandlerOptions{Level: l}); format {
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	}
	return nil, usagef("--log-format %q is unknown; it is text or json", format)
}

func interrupted(cmd *cobra.Command) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
}

func serveCommand() *cobra.Command {
	o := daemon.Options{}
	var owner, level, format, config string
	var check bool
	var secrets, challenge, roots, metricsKey string
	var proxies, standIns, sendOn, hookAllow []string
	var security string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service on a PostgreSQL database of yours", Args: cobra.NoArgs,
		Long: `Run the service: API and console, name server for the hosted zones, and the prober. The first
start makes the first owner and prints a one-time password. Every flag can also be given in
the environment, --database-url as INKPOST_DATABASE_URL, and so on; or in a YAML file (--config), as
database-url: ... What is given on the command line counts before the environment, and that before the file.
--check says whether all that is right, and starts nothing.`,
		Example: "  inkpost serve --config /etc/inkpost/serve.yaml\n  inkpost serve --config /etc/inkpost/serve.yaml --check",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if config != "" {
				if err := fromFile(cmd, config); err != nil {
					return err
				}
			}
			if o.Database == "" {
				return usagef("--database-url is required, such as postgres://inkpost@127.0.0.1:5432/inkpost")
			}
			var err error
			if o.Log, err = logger(cmd.ErrOrStderr(), level, format); err != nil {
				return err
			}
			if o.OpenID.Issuer != "" && (o.OpenID.ClientID == "" || o.PublicURL == "") {
				return usagef("--openid-issuer needs --openid-client, and --public-url, to which the provider sends people back")
			}
			if o.Secrets, err = secretRing(secrets); err != nil {
				return err
			}
			if (o.TLSCert == "") != (o.TLSKey == "") {
				return usagef("--tls-cert and --tls-key belong together")
			}
			if o.MetricsKey, err = secretIn(metricsKey, "metrics-key"); err != nil {
				return err
			}
			if err := authority(&o, challenge, roots); err != nil {
				return err
			}
			if o.PlainHTTP != "" && o.TLSCert == "" && o.Authority.Directory == "" {
				return usagef("--http-plain sends browsers to HTTPS: it needs --tls-cert and --tls-key, or --acme-directory")
			}
			if !slices.Contains([]string{daemon.ByXForwarded, daemon.ByForwarded, daemon.ByConnection}, o.ProxySays) {
				return usagef("--proxy-says %q is unknown; it is x-forwarded, forwarded or proxy-protocol", o.ProxySays)
			}
			if o.ProxySays == daemon.ByConnection && len(proxies) == 0 {
				return usagef("--proxy-says proxy-protocol needs --trust-proxy: without it nobody is believed")
			}
			if o.PublicURL, err = serverURL("public-url", o.PublicURL); err != nil {
				return err
			}
			if o.MemberURL, err = serverURL("member-url", o.MemberURL); err != nil {
				return err
			}
			for _, p := range proxies {
				prefix, err := readPrefix(p)
				if err != nil {
					return usagef("--trust-proxy: %v", err)
				}
				o.Proxies = append(o.Proxies, prefix)
			}
			for _, p := range standIns {
				prefix, err := readPrefix(p)
				if err != nil {
					return usagef("--lab-public: %v", err)
				}
				o.Policy.StandIns = append(o.Policy.StandIns, prefix)
			}
			for _, p := range hookAllow {
				prefix, err := readPrefix(p)
				if err != nil {
					return usagef("--hook-allow: %v", err)
				}
				o.HookAllow = append(o.HookAllow, prefix)
			}
			if o.Mail.Security = daemon.MailSecurity(security); o.Mail.Address != "" {
				if err := o.Mail.Check(); err != nil {
					return usageError{err}
				}
			}
			for _, text := range sendOn {
				a, err := netip.ParseAddr(text)
				if err != nil {
					return usagef("--redirect-address: %v", err)
				}
				o.RedirectAt = append(o.RedirectAt, a)
			}
			o.Console, o.Docs, o.Version = web.Console(), docs.Files(), Version
			o.Limit.Exempt = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}
			if check {
				if err := daemon.Check(o); err != nil {
					return err
				}
				say(cmd, "The configuration is right. Whether it also works is what inkpost doctor says of a server that runs.")
				return nil
			}
			ctx, stop := interrupted(cmd)
			defer stop()
			d, err := daemon.Start(ctx, o)
			if err != nil {
				return err
			}
			defer d.Stop()
			if !firstOwner(ctx, cmd, d, owner) {
				go ensureOwner(ctx, cmd, d, owner)
			}
			say(cmd, "Console and API at %s, names answered at %s.", d.URL, d.DNS)
			return d.Wait(ctx)
		},
	}
	f := c.Flags()
	f.StringVar(&o.Database, "database-url", "", "the PostgreSQL database, such as postgres://inkpost@127.0.0.1:5432/inkpost")
	f.StringVar(&o.HTTP, "http", defaultHTTP, "address of the API and console")
	f.StringVar(&secrets, "secrets-key", "",
		"file with the key by which secrets are sealed in the database, as inkpost secrets-key makes one (default: the systemd credential "+
			"secrets-key, if there is one)")
	f.StringVar(&o.TLSCert, "tls-cert", "", "file with the console's certificate and those above it (PEM); read anew when it changes")
	f.StringVar(&o.TLSKey, "tls-key", "", "file with its private key (PEM)")
	f.StringVar(&o.Authority.Directory, "acme-directory", "",
		"URL of an authority (RFC 8555) that issues the console's certificate, for the host of --public-url, and renews it")
	f.StringVar(&o.Authority.Contact, "acme-contact", "", "mail address that the authority may write to")
	f.StringVar(&challenge, "acme-challenge", "tls-alpn",
		"how it is proved that the name is ours: tls-alpn answers at port 443 of the name, dns puts a record into our own zone")
	f.StringVar(&roots, "acme-roots", "", "file with the certificates that vouch for the authority's own server (default: the system's)")
	f.StringVar(&metricsKey, "metrics-key", "",
		"file whose first line has to be given as a bearer token by whoever reads /metrics (default: everybody may)")
	f.StringVar(&o.PlainHTTP, "http-plain", "", "address at which browsers that come without TLS are sent to HTTPS, such as :80")
	f.StringVar(&o.OpenID.Issuer, "openid-issuer", "", "URL of a provider of OpenID Connect at which people may sign in as well")
	f.StringVar(&o.OpenID.ClientID, "openid-client", "",
		"what this server is called there; its redirect URI is PUBLIC-URL/api/v1/session/provider/return")
	f.StringVar(&o.OpenID.ClientSecret, "openid-secret", "", "its secret there; better by the environment: INKPOST_OPENID_SECRET")
	f.StringVar(&o.OpenID.Title, "openid-title", "", "what the provider is called on the sign-in page (default: its host)")
	f.StringVar(&o.OpenID.RoleClaim, "openid-role-claim", "inkpost_role", "the claim that says owner, technician or viewer")
	f.StringVar(&o.OpenID.TagsClaim, "openid-tags-claim", "inkpost_tags", "the claim that lists the tags of the sites that somebody sees")
	f.StringVar(&o.PublicURL, "public-url", "", "URL at which sites and vantage points reach this server, such as "+
		"https://post.saltmarsh.example; invitations name it")
	f.StringVar(&o.MemberURL, "member-url", "", "URL at which the other servers on the same database reach this one, such as "+
		"https://post-2.saltmarsh.example (default: where it listens, unless that is any address)")
	f.StringVar(&o.DNS, "dns", defaultDNS, "address of the name server, UDP and TCP")
	f.StringVar(&o.Redirect, "redirect", defaultRedirect, "address at which browsers are sent on; empty for none")
	f.StringVar(&o.STUN, "stun", defaultSTUN, "address of the STUN responder, which agents ask for their address; empty for none")
	f.DurationVar(&o.HoldDown, "hold-down", 0, "how long a link has to work again before hostnames come back to it (default 2m)")
	f.DurationVar(&o.WatchEvery, "watch-every", 0, "how often agents look at the devices on record (default 1m)")
	f.StringSliceVar(&sendOn, "redirect-address", nil,
		"public address of that listener, which redirect names answer; give it again for each (default: the listener's)")
	f.IntVar(&o.Limit.PerSecond, "answer-rate", 500, "DNS answers a second to one client network over UDP; 0 does not limit")
	f.StringVar(&o.StateDir, "state-dir", stateDir(),
		"where a copy of the zones is kept, which is answered while the database is away at a start; empty for none")
	f.Float64Var(&o.KeyRate, "key-rate", 2, "announcements a second that one key may make; an agent or router makes one when its "+
		"address changes")
	f.StringVar(&owner, "owner", "owner", "name of the first owner")
	f.StringVar(&o.Vantage, "vantage-name", "server", "what this server is called as a vantage point")
	f.DurationVar(&o.ProbeDeadline, "probe-deadline", 3*time.Second, "how long a probe waits for an answer")
	f.DurationVar(&o.CheckEvery, "check-every", 15*time.Second, "how often agents check their address")
	f.StringVar(&o.Traces, "traces", "", "URL of a collector of traces (OTLP over HTTP), such as http://127.0.0.1:4318/v1/traces")
	f.StringSliceVar(&proxies, "trust-proxy", nil, "address or prefix of a proxy that is believed when it says whom it speaks for")
	f.StringVar(&o.ProxySays, "proxy-says", daemon.ByXForwarded,
		"how a proxy says that, and no other way is believed: x-forwarded (X-Forwarded-For and -Proto), forwarded (RFC 7239), or "+
			"proxy-protocol (version 1 or 2, in front of each connection)")
	f.StringSliceVar(&o.Resolvers, "resolver", nil,
		"ADDRESS:PORT or ADDRESS:PORT/tcp of a resolver to ask whether the world sees an address; give it again for each")
	f.StringVar(&o.Mail.Address, "mail-server", "", "HOST or HOST:PORT of the mail server that sends notices; empty sends no mail")
	f.StringVar(&security, "mail-security", string(daemon.MailStartTLS), "how the way there is protected: starttls, tls or plain")
	f.StringVar(&o.Mail.From, "mail-from", "", "the sender, such as \"Saltmarsh <noc@saltmarsh.example>\"")
	f.StringVar(&o.Mail.Auth, "mail-auth", "", "plain, login, cram-md5, scram-sha-256, scram-sha-1 or xoauth2; empty signs in nowhere")
	f.StringVar(&o.Mail.User, "mail-user", "", "who signs in there")
	f.StringVar(&o.Mail.Password, "mail-password", "", "with which password or token; better given as INKPOST_MAIL_PASSWORD")
	f.StringSliceVar(&hookAllow, "hook-allow", nil,
		"prefix of addresses that webhooks may have although they are not public; give it again for each")
	f.StringSliceVar(&standIns, "lab-public", nil, "prefix whose addresses count as public; for a lab only")
	f.StringVar(&level, "log-level", "info", "debug, info, warn or error")
	f.StringVar(&format, "log-format", "text", "text or json; each line goes to standard error, and so to the journal")
	f.StringVar(&config, "config", "", "YAML file with any of these options, such as public-url: https://post.saltmarsh.example")
	f.BoolVar(&check, "check", false, "say whether the configuration is right, and start nothing")
	return c
}

// serverURL checks the URL at which a server is reached, as an option gives it.
func serverURL(option, text string) (string, error) {
	if text == "" {
		return "", nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || strings.Trim(u.Path, "/") != "" ||
		u.RawQuery != "" || u.User != nil {
		return "", usagef("--%s %q is not a URL of a server; give http:// or https://, a host, and perhaps a port, such as "+
			"https://post.saltmarsh.example", option, text)
	}
	return u.Scheme + "://" + u.Host, nil
}

// firstOwner makes the first owner where there is nobody yet, and says the password. It reports whether that is settled.
func firstOwner(ctx context.Context, cmd *cobra.Command, d *daemon.Daemon, owner string) bool {
	password, settled := d.FirstOwner(ctx, owner)
	if password != "" {
		say(cmd, "One-time password of %s: %s (valid for three days)", owner, password)
	}
	return settled
}

// ensureOwner makes the first owner as soon as this server writes.
func ensureOwner(ctx context.Context, cmd *cobra.Command, d *daemon.Daemon, owner string) {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		if firstOwner(ctx, cmd, d, owner) {
			return
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// stateDir is where a server keeps what only this machine needs.
func stateDir() string {
	if os.Geteuid() == 0 {
		return "/var/lib/inkpost"
	}
	if dir := os.Getenv("XDG_STATE_HOME"); dir != "" {
		return filepath.Join(dir, "inkpost")
	}
	if home, err := os.UserHomeDir(); err == nil {
		return filepath.Join(home, ".local", "state", "inkpost")
	}
	return ""
}

func readPrefix(s string) (netip.Prefix, error) {
	if strings.Contains(s, "/") {
		return netip.ParsePrefix(s)
	}
	a, err := netip.ParseAddr(s)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(a, a.BitLen()), nil
}

func ownerCommand() *cobra.Command {
	var of database
	var create, second bool
	reset := &cobra.Command{
		Use: "reset NAME", Short: "Give a person a new one-time password (needs the database)", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			database, err := of.needed("")
			if err != nil {
				return err
			}
			password, err := daemon.ResetPassword(cmd.Context(), database, args[0], create, second)
			var missing site.Missing
			if errors.As(err, &missing) {
				return fmt.Errorf("there is no account %q; to add one with all rights, add --create", args[0])
			}
			if err != nil {
				return err
			}
			say(cmd, "One-time password of %s: %s (valid for three days)", args[0], password)
			return nil
		},
	}
	of.flags(reset, "the server's PostgreSQL database")
	reset.Flags().BoolVar(&second, "drop-second-factor", false, "take their authenticator, recovery codes and passkeys away as well")
	reset.Flags().BoolVar(&create, "create", false, "create the account if there is none of this name: it has all rights")
	return group("owner", "Help an owner who has lost the password", reset)
}
