package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"

	"lastboard/internal/engine"
	"lastboard/internal/engine/bounded"
	"lastboard/internal/pattern"
)

// oldest is the first version of the server that is proven.
const oldest = 140000

// Open implements engine.Engine. The URL is postgres:// or postgresql://, as libpq has
// it; what it leaves out comes from the usual environment and password files.
func (e Engine) Open(ctx context.Context, target string, mode engine.Mode) (engine.Database, error) {
	config, err := pgconn.ParseConfig(target)
	if err != nil {
		return nil, &engine.CannotOpen{Message: "the URL of the database cannot be read: " + reason(err),
			Cure: "write postgres://user@host:5432/database; a password stays out of it in PGPASSWORD or a password file"}
	}
	if config.RuntimeParams["application_name"] == "" {
		config.RuntimeParams["application_name"] = "lastboard"
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = 10 * time.Second
	}
	config.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: c, DeadlineDelay: 10 * time.Second}
	}
	d := &database{config: config, role: e.RunsAs, host: address(config), readOnly: mode == engine.Read}
	var line *bounded.Conn
	if d.conn, line, err = d.begin(ctx); err != nil {
		return nil, err
	}
	if err := errors.Join(d.greet(ctx, e.Unproven, mode), line.Begun()); err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

func address(c *pgconn.Config) string {
	if strings.HasPrefix(c.Host, "/") {
		return c.Host
	}
	return net.JoinHostPort(c.Host, strconv.Itoa(int(c.Port)))
}

// settings are those that change what a statement means or when it ends, for every
// session of Lastboard's. Nothing is compiled: that would take longer than a batch, each time.
const settings = `
	set statement_timeout = 0; set time zone 'UTC'; set datestyle = 'ISO, YMD'; set intervalstyle = 'iso_8601'; set bytea_output = 'hex'; set extra_float_digits = 1;
	set standard_conforming_strings = on; set escape_string_warning = off; set row_security = off; set client_min_messages = error;
	set idle_in_transaction_session_timeout = 0; set idle_session_timeout = 0; set lock_timeout = '30s'; set default_transaction_isolation = 'read committed';
	set default_transaction_deferrable = off; set check_function_bodies = on; set xmloption = content; set quote_all_identifiers = off;
	set default_tablespace = ''; set default_table_access_method = 'heap'; set tcp_keepalives_idle = 10; set tcp_keepalives_interval = 5; set tcp_keepalives_count = 3;
	set client_encoding = 'UTF8'; set synchronous_commit = on; set jit = off`

// connect opens a session.
func (d *database) connect(ctx context.Context) (*pgconn.PgConn, error) {
	conn, line, err := d.begin(ctx)
	if err != nil {
		return nil, err
	}
	return conn, line.Begun()
}

// begin does that, and leaves the session within the bounds of one that begins.
func (d *database) begin(ctx context.Context) (*pgconn.PgConn, *bounded.Conn, error) {
	var line *bounded.Conn
	conn, err := d.dial(ctx, func(ctx context.Context, network, address string) (net.Conn, error) {
		l, err := bounded.Dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		line = l
		return l, nil
	})
	if err != nil {
		return nil, nil, d.explain(err)
	}
	began := line // one that carries a request to end a statement takes its place
	if err := script(ctx, conn, settings); err != nil {
		conn.Close(ctx)
		return nil, nil, d.cannot("the settings of the session are refused: "+reason(err),
			"this may be no PostgreSQL server, or a pooler that forbids them: connect to the server itself", err)
	}
	if d.role != "" {
		if err := script(ctx, conn, "set role "+quote(d.role)); err != nil {
			conn.Close(ctx)
			return nil, nil, d.cannot("user "+d.config.User+" may not act as "+d.role+
				", which runs_as in lastboard.toml names: "+reason(err), "grant "+quote(d.role)+" to "+quote(d.config.User), err)
		}
	}
	if d.home != "" {
		if err := d.enter(ctx, conn); err != nil {
			conn.Close(ctx)
			return nil, nil, err
		}
	}
	return conn, began, nil
}

func (d *database) dial(ctx context.Context, dial pgconn.DialFunc) (*pgconn.PgConn, error) {
	// A limit that a role or database sets would end the statements that undo it: it goes
	// along with the connection itself, where no pooler in between refuses that.
	config := d.config.Copy()
	config.DialFunc = dial
	config.RuntimeParams["statement_timeout"] = "0"
	conn, err := pgconn.ConnectConfig(ctx, config)
	if pe := (*pgconn.PgError)(nil); errors.As(err, &pe) && pe.Code == "08P01" {
		config = d.config.Copy()
		config.DialFunc = dial
		conn, err = pgconn.ConnectConfig(ctx, config)
	}
	return conn, err
}

// genuine is how PostgreSQL itself says what it is, of any distribution.
var genuine = pattern.Of(`^PostgreSQL \d+(\.\d+)*(beta\d+|rc\d+|devel)?( \([^)]*\))? on `)

// greet finds out what the server is, and refuses one that this is not made for.
func (d *database) greet(ctx context.Context, unproven bool, mode engine.Mode) error {
	r, err := d.Query(ctx, `select version(), pg_catalog.current_setting('server_version_num')::int, coalesce(current_schema(), 'public'), pg_backend_pid(), pg_is_in_recovery(),
		(select count(*) from pg_catalog.pg_am where amname = 'heap'), pg_catalog.to_regclass('pg_catalog.pg_dist_partition') is not null, pg_catalog.current_setting('server_version')`)
	if err != nil {
		if !unproven {
			return d.cannot("the server does not answer as PostgreSQL does: "+reason(err),
				"Lastboard is made for PostgreSQL itself; --unproven tries all the same", err)
		}
		return err
	}
	v := r.Values[0]
	d.number, d.home, d.pid = int(number(v[1])), text(v[2]), uint32(number(v[3]))
	d.version, _, _ = strings.Cut(text(v[7]), " ")
	if !unproven && (!genuine().MatchString(text(v[0])) || number(v[5]) != 1 || yes(v[6])) {
		return d.cannot("the server speaks the protocol of PostgreSQL and is another: "+firstWords(text(v[0])),
			"what it does with a table was never measured; --unproven tries all the same, on a copy first", nil)
	}
	if d.number < oldest {
		return d.cannot("the server is PostgreSQL "+d.version+", and 14 is the oldest that Lastboard knows",
			"upgrade the server", nil)
	}
	if yes(v[4]) && mode != engine.Read {
		return d.cannot("the server is a replica and can be read but not written", "connect to the primary", nil)
	}
	return d.enter(ctx, d.conn)
}

func firstWords(s string) string {
	words := strings.Fields(s)
	return strings.Join(words[:min(len(words), 4)], " ")
}

// watcher gives the second connection, which looks on.
func (d *database) watcher(ctx context.Context) (*pgconn.PgConn, error) {
	if d.second != nil && !d.second.IsClosed() {
		return d.second, nil
	}
	var err error
	d.second, err = d.connect(ctx)
	return d.second, err
}

func (d *database) cannot(message, cure string, err error) error {
	return &engine.CannotOpen{Message: message, Cure: cure, Err: err}
}

// explain turns an error of connecting into one that says what to do. No part of it
// holds a password.
func (d *database) explain(err error) error {
	where := fmt.Sprintf("%s as %s", d.host, d.config.User)
	var pe *pgconn.PgError
	var dns *net.DNSError
	switch {
	case errors.As(err, &pe):
		switch pe.Code {
		case "28P01", "28000":
			return d.cannot("the server at "+where+" does not let you in: "+pe.Message,
				"check the user and the password: PGPASSWORD, a password file, or the URL", err)
		case "3D000":
			return d.cannot("there is no database "+d.config.Database+" on "+d.host, "check the URL, or make the database", err)
		case "53300":
			return d.cannot("the server at "+d.host+" has no connection left", "wait, or end some", err)
		case "57P03":
			return d.cannot("the server at "+d.host+" is starting or stopping", "wait, and run the command again", err)
		}
		return d.cannot("the server at "+where+" refuses: "+pe.Message, "", err)
	case errors.Is(err, bounded.ErrTooLong):
		return bounded.NotTaken(reason(err), err)
	case pgconn.Timeout(err):
		return d.cannot("the server at "+d.host+" does not answer in time",
			"check that it runs, and the host and port of the URL", err)
	case errors.As(err, &dns):
		return d.cannot("there is no host "+dns.Name, "check the URL of the database in lastboard.toml", err)
	case strings.Contains(err.Error(), "tls"), strings.Contains(err.Error(), "certificate"),
		strings.Contains(err.Error(), "TLS"):
		return d.cannot("the server at "+d.host+" and this program do not agree on TLS: "+reason(err),
			"check sslmode and sslrootcert in the URL", err)
	}
	return d.cannot("the server at "+d.host+" does not answer: "+reason(err),
		"check that it runs, and the host and port of the URL", err)
}

// reason gives the last of an error's causes, without the connection's settings.
func reason(err error) string {
	for {
		next := errors.Unwrap(err)
		if joined, ok := err.(interface{ Unwrap() []error }); ok && len(joined.Unwrap()) > 0 {
			next = joined.Unwrap()[0]
		}
		if next == nil {
			return err.Error()
		}
		err = next
	}
}
