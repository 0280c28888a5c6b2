package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hen-roost/internal/api"
	"hen-roost/internal/serve"
)

// settings are how a service is configured: by flags, else by environment
// (ROOST_LISTEN, …), else by the configuration file, else by default.
type settings struct {
	Listen         string `yaml:"listen" about:"address to listen on; port 0 picks a free one"`
	Data           string `yaml:"data" about:"folder for the key file, the certificate and the private database"`
	Database       string `yaml:"database" about:"MariaDB to use, user:password@tcp(host:port)/name; without it a private one is kept under the data folder"`
	Certificate    string `yaml:"certificate" about:"TLS certificate (PEM); without it one is made"`
	CertificateKey string `yaml:"certificate-key" about:"its private key (PEM)"`
	KeyFile        string `yaml:"key-file" about:"file with the key that opens the sealed secrets; made when it is not there"`
	Drops          string `yaml:"drops" about:"folder in which each system that drops files with people has a folder of its name; without it there is none"`
	Dialects       string `yaml:"dialects" about:"folder with dialects, files that teach kinds of targets; without it there are none"`
	AtOnce         string `yaml:"at-once" about:"targets of a kind at once, as host=8,directory=2; 12 in all"`
	Names          string `yaml:"names" about:"names the service may be asked for by, beside those in its certificate, separated by commas; * for any"`
	Metrics        string `yaml:"metrics" about:"who may read /metrics: loopback, everybody or nobody"`
	Probation      string `yaml:"probation" about:"how long an operator cannot lift holds of who made them, or gave them duties or a password, unless another administrator confirms them"`
	Log            string `yaml:"log" about:"text or json"`
	LogLevel       string `yaml:"log-level" about:"debug, info, warn or error"`
}

func defaults() settings {
	return settings{Listen: "127.0.0.1:8460", Data: "/var/lib/hen-roost", Metrics: "loopback", Probation: "168h",
		Log: "text", LogLevel: "info"}
}

// each visits the settings by key.
func (s *settings) each(visit func(key, about string, value *string)) {
	v := reflect.ValueOf(s).Elem()
	for i := range v.NumField() {
		f := v.Type().Field(i)
		visit(f.Tag.Get("yaml"), f.Tag.Get("about"), v.Field(i).Addr().Interface().(*string))
	}
}

func (s *settings) flags(fs *pflag.FlagSet) *string {
	d := defaults()
	d.each(func(key, about string, value *string) {
		if key == "database" {
			return // it may hold a password, and arguments can be read by others
		}
		fs.String(key, *value, about)
	})
	return fs.String("config", "", "configuration file (YAML); default: hen-roost.yaml in /etc, if it is there")
}

// load fills the settings in by rank.
func (a *app) load(fs *pflag.FlagSet, file string) (settings, error) {
	s := defaults()
	if file == "" {
		if _, err := os.Stat("/etc/hen-roost.yaml"); err == nil {
			file = "/etc/hen-roost.yaml"
		}
	}
	if file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return s, err
		}
		if err := yaml.UnmarshalWithOptions(b, &s, yaml.Strict()); err != nil {
			return s, fmt.Errorf("%s: %s", file, yaml.FormatError(err, false, false))
		}
	}
	s.each(func(key, _ string, value *string) {
		if v := a.Getenv("ROOST_" + strings.ToUpper(strings.ReplaceAll(key, "-", "_"))); v != "" {
			*value = v
		}
		if f := fs.Lookup(key); f != nil && f.Changed {
			*value = f.Value.String()
		}
	})
	return s, nil
}

// logger makes the log of a service.
func logger(to io.Writer, form, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, wrong{fmt.Errorf("log-level is debug, info, warn or error, not %q", level)}
	}
	switch form {
	case "json":
		return slog.New(slog.NewJSONHandler(to, &slog.HandlerOptions{Level: l})), nil
	case "text":
		return slog.New(slog.NewTextHandler(to, &slog.HandlerOptions{Level: l})), nil
	}
	return nil, wrong{fmt.Errorf("log is text or json, not %q", form)}
}

func (a *app) config(fs *pflag.FlagSet, file string) (serve.Config, error) {
	s, err := a.load(fs, file)
	if err != nil {
		return serve.Config{}, err
	}
	log, err := logger(a.Err, s.Log, s.LogLevel)
	if err != nil {
		return serve.Config{}, err
	}
	slog.SetDefault(log)
	widths, err := atOnce(s.AtOnce)
	if err != nil {
		return serve.Config{}, wrong{err}
	}
	if !slices.Contains([]string{"loopback", "everybody", "nobody"}, s.Metrics) {
		return serve.Config{}, wrong{fmt.Errorf("metrics is loopback, everybody or nobody, not %q", s.Metrics)}
	}
	probation, err := time.ParseDuration(s.Probation)
	if err != nil || probation <= 0 {
		return serve.Config{}, wrong{fmt.Errorf("probation is a length of time as 168h, not %q", s.Probation)}
	}
	names := strings.FieldsFunc(s.Names, func(c rune) bool { return c == ',' || c == ' ' })
	data, err := filepath.Abs(s.Data)
	return serve.Config{Listen: s.Listen, Data: data, Database: s.Database, Certificate: s.Certificate, CertificateKey: s.CertificateKey,
		KeyFile: s.KeyFile, AtOnce: widths, Drops: s.Drops, Dialects: s.Dialects, Names: names,
		Metrics:   s.Metrics,
		Probation: probation, Log: log, Version: a.Version}, err
}

// atOnce reads how many targets of a kind are worked on at once: host=8,directory=2.
func atOnce(text string) (map[string]int, error) {
	out := map[string]int{}
	for part := range strings.SplitSeq(text, ",") {
		if part == "" {
			continue
		}
		kind, number, ok := strings.Cut(strings.TrimSpace(part), "=")
		n, err := strconv.Atoi(number)
		if !ok || err != nil || n < 1 {
			return nil, fmt.Errorf("at-once %q: write KIND=NUMBER, as in host=8,directory=2", part)
		}
		out[kind] = n
	}
	return out, nil
}

func (a *app) serve() *cobra.Command {
	var file *string
	c := &cobra.Command{Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		Long: `Run the service: the API, the console, surveys and rounds. Settings come from
flags, else from the environment (ROOST_LISTEN, ROOST_DATA, ROOST_DATABASE, …), else
from a YAML file with the same keys. It stops in good order on SIGTERM: batches under
way are finished, the other steps wait for the next start.`,
		Example: "  roost serve --data /var/lib/hen-roost --listen 0.0.0.0:8460\n  roost serve --config hen-roost.yaml --log json",
		RunE: func(c *cobra.Command, _ []string) error {
			conf, err := a.config(c.Flags(), *file)
			if err != nil {
				return err
			}
			// How patient it is with targets, and how much is under way at once when something breaks.
			if n, err := strconv.Atoi(a.Getenv("ROOST_BATCH")); err == nil {
				conf.Batch = n
			}
			if wait := a.Getenv("ROOST_PATIENCE"); wait != "" {
				if conf.Wait, err = time.ParseDuration(wait); err != nil {
					return wrong{fmt.Errorf("ROOST_PATIENCE: %w", err)}
				}
			}
			if a.Getenv("GOGC")+a.Getenv("GOMEMLIMIT") == "" {
				go serve.Tidy(c.Context())
			}
			s, err := serve.Start(c.Context(), conf)
			if err != nil {
				return err
			}
			defer s.Close()
			a.tell("ready %s certificate %s", s.Address, s.Print)
			select {
			case <-c.Context().Done():
				conf.Log.Info("stopping")
				return nil
			case err := <-s.Failed():
				return err
			}
		}}
	file = (&settings{}).flags(c.Flags())
	return c
}

// firstOperator works on the database itself: whoever can read the data folder may do it, once.
func (a *app) firstOperator() *cobra.Command {
	var full, password string
	var file *string
	c := &cobra.Command{Use: "first NAME", Short: "Make the first administrator, once, on the server itself", Args: cobra.ExactArgs(1),
		Long: "Make the first administrator. This works once, on the server itself, with the same settings as roost serve, which may " +
			"be running. The password is generated and shown this once, unless one is given by a file.",
		Example: "  roost operator first odd.strand --name \"Odd Strand\" --data /var/lib/hen-roost",
		RunE: func(c *cobra.Command, args []string) error {
			conf, err := a.config(c.Flags(), *file)
			if err != nil {
				return err
			}
			given := ""
			if password != "" {
				b, err := a.secretInput(password, "", "--password-file")
				if err != nil {
					return err
				}
				given = string(b)
			}
			s, err := serve.Open(c.Context(), conf)
			if err != nil {
				return err
			}
			defer s.Close()
			made, err := s.Service.FirstOperator(c.Context(), args[0], full, given)
			if err != nil {
				return err
			}
			if given != "" {
				made = ""
			}
			return a.newOperator(args[0], api.Password{Password: made})
		}}
	c.Flags().StringVar(&full, "name", "", "the operator's full name")
	c.Flags().StringVar(&password, "password-file", "", "file with the password, - for standard input; generated when absent")
	file = (&settings{}).flags(c.Flags())
	return c
}

// openapi prints the API's document; the console's client is made from it.
func (a *app) openapi() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the API's OpenAPI document", Hidden: true, Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			b, err := api.Routes(chi.NewRouter(), nil, a.Version).OpenAPI().MarshalJSON()
			if err != nil {
				return err
			}
			var pretty bytes.Buffer
			if err := json.Indent(&pretty, b, "", "  "); err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.Out, pretty.String())
			return err
		}}
}
