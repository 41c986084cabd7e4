package mariadb

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"lastboard/internal/engine"
	"lastboard/internal/engine/bounded"
	"lastboard/internal/files"
)

// oldest is the first version of the server that is proven.
var oldest = [2]int{10, 6}

// bytewise is the collation of texts that compare byte for byte.
const bytewise = "utf8mb4_nopad_bin"

// forever is for how many seconds a session may do nothing, whatever the server says: what a
// run does takes hours, and the session that holds its claim says every while that it lives.
const forever = "28800"

// mode is the sql_mode of Lastboard's sessions: names and texts are written as on the
// other engines, and no value is ever cut or made up.
const mode = "ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES,STRICT_ALL_TABLES," +
	"NO_AUTO_VALUE_ON_ZERO,NO_ENGINE_SUBSTITUTION,NO_UNSIGNED_SUBTRACTION"

// settings are those that change what a statement means or when it ends, for every
// session of Lastboard's.
const settings = "set session sql_mode = '" + mode +
	"', time_zone = '+00:00', autocommit = 1, completion_type = 0, lock_wait_timeout = 5, innodb_lock_wait_timeout = " +
	"1, max_statement_time = 0, wait_timeout = " + forever + ", " +
	"foreign_key_checks = 1, unique_checks = 1, check_constraint_checks = 1, sql_safe_updates = 0, sql_auto_is_null " +
	"= 0, alter_algorithm = default, old_mode = '', " +
	"group_concat_max_len = 16777216, sql_select_limit = default, default_storage_engine = InnoDB, " +
	"div_precision_increment = 10, @lastboard_writes = 1"

// Open implements engine.Engine. The URL is mariadb:// or mysql://, with user, host,
// port and database, and perhaps ?socket=, ?tls=off|prefer|require|verify, ?tls-ca= and
// ?option-file=. What it leaves out comes from MYSQL_PWD and from the section [client] of
// ~/.my.cnf.
func (e Engine) Open(ctx context.Context, target string, access engine.Mode) (engine.Database, error) {
	config, err := configure(target)
	if err != nil {
		return nil, &engine.CannotOpen{Message: "the URL of the database cannot be read: " + err.Error(),
			Cure: "write mariadb://user@host:3306/database; a password stays out of it in MYSQL_PWD or an option file"}
	}
	if strings.HasPrefix(strings.ToLower(config.DBName), engine.Prefix) {
		return nil, &engine.CannotOpen{Message: "database " + config.DBName + " is one of Lastboard's own",
			Cure: "name the database whose tables are to be changed"}
	}
	d := &database{config: config, role: e.RunsAs, readOnly: access == engine.Read, here: e.Here,
		place: &place{database: placeName(config.DBName), here: true}}
	if d.session, err = d.begin(ctx, config.DBName); err != nil {
		return nil, err
	}
	if err := d.greet(ctx, e.Unproven, access); err != nil {
		d.Close()
		return nil, err
	}
	d.session.place = d.place
	if err := errors.Join(d.locate(ctx), d.line.Begun()); err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

// configure reads a URL, and beside it the environment and the option file.
func configure(target string) (*mysql.Config, error) {
	u, err := url.Parse(target)
	if err != nil {
		var e *url.Error
		if errors.As(err, &e) {
			err = e.Err // which does not show the URL with its password
		}
		return nil, err
	}
	q := u.Query()
	for key := range q {
		if known := []string{"option-file", "socket", "tls", "tls-ca"}; !slices.Contains(known, key) {
			return nil, fmt.Errorf("it has an option %s, and there are only %s", key, strings.Join(known, ", "))
		}
	}
	file := q.Get("option-file")
	if file == "" {
		if home, err := os.UserHomeDir(); err == nil {
			file = filepath.Join(home, ".my.cnf")
		}
	}
	options, err := optionFile(file)
	if err != nil && q.Get("option-file") != "" {
		return nil, err
	}
	first := func(values ...string) string {
		for _, v := range values {
			if v != "" {
				return v
			}
		}
		return ""
	}
	c := mysql.NewConfig()
	password, _ := u.User.Password()
	c.User = first(u.User.Username(), options["user"], os.Getenv("USER"))
	c.Passwd = first(password, os.Getenv("MYSQL_PWD"), options["password"])
	c.DBName = strings.TrimPrefix(u.Path, "/")
	if c.DBName == "" {
		return nil, errors.New("it names no database")
	}
	c.Net, c.Addr = "tcp", net.JoinHostPort(first(u.Hostname(), options["host"], "localhost"),
		first(u.Port(), options["port"], "3306"))
	if socket := first(q.Get("socket"), map[bool]string{true: options["socket"]}[u.Host == ""]); socket != "" {
		c.Net, c.Addr = "unix", socket
	}
	c.ClientFoundRows = true // rows that a statement matches count, changed or not
	c.InterpolateParams, c.Timeout, c.AllowNativePasswords = true, 10*time.Second, true
	c.Logger = &mysql.NopLogger{}
	c.ConnectionAttributes = "program_name:lastboard"
	return c, secure(c, q.Get("tls"), first(q.Get("tls-ca"), options["ssl-ca"]))
}

// Connector gives the way to a database by its URL for a program beside Lastboard: its
// sessions read and write texts, names and times as Lastboard's do.
func Connector(target string) (driver.Connector, error) {
	c, err := configure(target)
	if err != nil {
		return nil, err
	}
	c.ParseTime = true
	c.Params = map[string]string{"sql_mode": literal(mode), "time_zone": "'+00:00'", "group_concat_max_len": "16777216"}
	return mysql.NewConnector(c)
}

// secure says how a connection is protected.
func secure(c *mysql.Config, way, authority string) error {
	host, _, _ := net.SplitHostPort(c.Addr)
	switch way {
	case "off":
		return nil
	case "", "prefer":
		if c.Net == "unix" {
			return nil
		}
		if authority == "" {
			c.TLSConfig, c.AllowFallbackToPlaintext = "preferred", true
			return nil
		}
	case "require":
		c.TLSConfig = "skip-verify"
		return nil
	case "verify":
	default:
		return fmt.Errorf("tls=%s is none of off, prefer, require, verify", way)
	}
	t := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if authority != "" {
		data, err := files.Read(authority, files.Settings)
		if err != nil {
			return err
		}
		t.RootCAs = x509.NewCertPool()
		if !t.RootCAs.AppendCertsFromPEM(data) {
			return fmt.Errorf("%s holds no certificate", authority)
		}
	}
	c.TLS = t
	return nil
}

// optionFile reads the sections of an option file that are for clients (the manual,
// "Configuring MariaDB with option files").
func optionFile(path string) (map[string]string, error) {
	options := map[string]string{}
	data, err := files.Read(path, files.Settings)
	if err != nil {
		return options, err
	}
	ours := false
	for line := range strings.Lines(string(data)) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			section := strings.Trim(line, "[]")
			ours = section == "client" || section == "client-server" || section == "client-mariadb"
			continue
		}
		key, v, _ := strings.Cut(line, "=")
		if !ours || line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		v = strings.TrimSpace(v)
		if len(v) > 1 && (v[0] == '"' || v[0] == '\'') && v[len(v)-1] == v[0] {
			v = v[1 : len(v)-1]
		}
		options[strings.ReplaceAll(strings.TrimSpace(key), "_", "-")] = v
	}
	return options, nil
}

// connect opens a session on a database of the server, with options beside those of all.
func (d *database) connect(ctx context.Context, name string, options ...func(*mysql.Config)) (*session, error) {
	s, err := d.begin(ctx, name, options...)
	if err != nil {
		return nil, err
	}
	return s, s.line.Begun()
}

// begin does that, and leaves the session within the bounds of one that begins.
func (d *database) begin(ctx context.Context, name string, options ...func(*mysql.Config)) (*session, error) {
	config, s := d.config.Clone(), &session{end: d.end, role: d.role != ""}
	config.DBName = name
	for _, o := range options {
		o(config)
	}
	if d.role != "" { // by whose rights alone the database may be used
		config.DBName = ""
	}
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		var err error
		if s.line, err = bounded.Dial(ctx, network, address); err != nil {
			return nil, err
		}
		return s.line, nil
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	s.pool = sql.OpenDB(connector)
	s.pool.SetMaxOpenConns(1)
	if err := sane(func() error { return d.arrange(ctx, s, name) }); err != nil {
		if s.conn != nil {
			s.conn.Close()
		}
		switch passed := s.line.Passed(); {
		case errors.Is(passed, bounded.ErrTooLate):
			err = d.cannot("the server at "+d.host()+" does not answer in time", "check host and port, and that the server runs",
				err)
		case passed != nil:
			err = bounded.NotTaken(passed.Error(), err)
		}
		return nil, errors.Join(err, s.pool.Close())
	}
	return s, nil
}

// arrange connects a session to a database, and makes its settings.
func (d *database) arrange(ctx context.Context, s *session, name string) (err error) {
	if s.conn, err = s.pool.Conn(ctx); err != nil {
		return d.explain(err)
	}
	for _, sql := range []string{"set names utf8mb4 collate " + bytewise, settings,
		"set session transaction isolation level read committed"} {
		if _, err := s.conn.ExecContext(ctx, sql); err != nil {
			return d.cannot("the settings of the session are refused: "+message(err),
				"this may be no MariaDB server: connect to one", err)
		}
	}
	if d.role != "" {
		if _, err := s.conn.ExecContext(ctx, "set role "+quote(d.role)); err != nil {
			return d.cannot("user "+d.config.User+" may not act as "+d.role+", which runs_as in lastboard.toml names: "+
				message(err), "grant "+quote(d.role)+" to the user", err)
		}
		if name != "" {
			if _, err := s.conn.ExecContext(ctx, "use "+quote(name)); err != nil {
				return d.explain(err)
			}
		}
	}
	if err := s.conn.QueryRowContext(ctx, "select connection_id()").Scan(&s.id); err != nil {
		return d.explain(err)
	}
	return nil
}

// end ends what a session does, from a connection of its own.
func (d *database) end(id int64) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	s, err := d.connect(ctx, d.config.DBName)
	if err != nil {
		return
	}
	defer s.close()
	s.conn.ExecContext(ctx, "kill query "+strconv.FormatInt(id, 10))
}

// greet finds out what the server is, and refuses one that this is not made for.
func (d *database) greet(ctx context.Context, unproven bool, access engine.Mode) error {
	r, err := d.query(ctx, "select version(), @@read_only, @@log_bin, @@log_bin_trust_function_creators, "+
		"@@version_comment, current_user()")
	if err != nil {
		return d.cannot("the server does not answer as MariaDB does: "+message(err),
			"Lastboard is made for MariaDB itself; --unproven tries all the same", err)
	}
	v := r.Values[0]
	full := text(v[0])
	d.version, _, _ = strings.Cut(full, "-")
	user := text(v[5])
	at := strings.LastIndex(user, "@")
	d.account = literal(user[:max(at, 0)]) + "@" + literal(user[at+1:])
	d.logs, d.trusts = number(v[2]) != 0, number(v[3]) != 0
	if !strings.Contains(full, "MariaDB") && !unproven {
		return d.cannot("the server speaks the protocol of MariaDB and is another: "+full+" ("+text(v[4])+")",
			"what it does with a table was never measured; --unproven tries all the same, on a copy first", nil)
	}
	var major, minor int
	if _, err := fmt.Sscanf(d.version, "%d.%d", &major, &minor); err == nil &&
		(major < oldest[0] || major == oldest[0] && minor < oldest[1]) && !unproven {
		return d.cannot("the server is MariaDB "+d.version+", and 10.6 is the oldest that Lastboard knows",
			"upgrade the server", nil)
	}
	cluster, err := d.query(ctx, "show global status where variable_name = 'wsrep_cluster_size' and value > 0")
	if err != nil {
		return err
	}
	d.cluster = len(cluster.Values) > 0
	if number(v[1]) != 0 && access != engine.Read {
		if r, err := d.query(ctx, "select 1 from information_schema.user_privileges where privilege_type in ('SUPER', "+
			"'READ_ONLY ADMIN') and grantee = concat('''', replace(current_user(), '@', '''@'''), '''')"); err != nil ||
			len(r.Values) == 0 {
			return d.cannot("the server can be read but not written (read_only is on)",
				"connect to the primary server, not to a replica", nil)
		}
	}
	return nil
}

func (d *database) cannot(message, cure string, err error) error {
	return &engine.CannotOpen{Message: message, Cure: cure, Err: err}
}

// explain says why no connection came about.
func (d *database) explain(err error) error {
	host := d.host()
	var dns *net.DNSError
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var verify *tls.CertificateVerificationError
	switch {
	case code(err) == 1045:
		return d.cannot("the server at "+host+" does not let you in as "+d.config.User,
			"check the user, and the password in MYSQL_PWD or an option file", err)
	case code(err) == 1049:
		return d.cannot("there is no database "+d.config.DBName+" at "+host, "create it on the server, or mend the URL", err)
	case code(err) == 1044:
		return d.cannot("user "+d.config.User+" may not use database "+d.config.DBName,
			"grant all on "+quote(d.config.DBName)+".* to the user", err)
	case code(err) == 1040:
		return d.cannot("the server at "+host+" has no connection left", "try again later, or raise max_connections", err)
	case code(err) != 0:
		return d.cannot("the server at "+host+" refuses the connection: "+message(err), "", err)
	case errors.As(err, &dns):
		return d.cannot("there is no host "+dns.Name, "check the URL", err)
	case errors.As(err, &unknown), errors.As(err, &name), errors.As(err, &verify), errors.Is(err, mysql.ErrNoTLS),
		strings.Contains(err.Error(), "tls:"):
		return d.cannot("the server at "+host+" and this program do not agree on TLS: "+err.Error(),
			"set tls and tls-ca in the URL as the server wants them", err)
	case errors.Is(err, context.Canceled):
		return err
	}
	return d.cannot("the server at "+host+" does not answer: "+err.Error(),
		"check host and port, and that the server runs", err)
}
