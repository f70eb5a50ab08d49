package http

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/google/shlex"
	"github.com/spf13/pflag"

	"paceduel/core/draft"
)

// curlOption is an option of curl by its names, and what we make of it; nothing of what it is quiet about.
type curlOption struct {
	long, short string
	what        string
	alone       bool // it has no value
}

var curlOptions = []curlOption{
	{
		"request", "X", "method", false,
	}, {"header", "H", "header", false}, {"url", "", "url", false}, {"user-agent", "A", "agent", false},
	{
		"data", "d", "data", false,
	}, {"data-raw", "", "data", false}, {"data-ascii", "", "data", false}, {"data-binary", "", "data", false},
	{
		"data-urlencode", "", "encoded", false,
	}, {"json", "", "json", false}, {"user", "u", "user", false}, {"cookie", "b", "cookie", false},
	{
		"referer", "e", "referer", false,
	}, {"max-time", "m", "limit", false}, {"output", "o", "", false}, {"write-out", "w", "", false},
	{"connect-timeout", "", "", false}, {"cookie-jar", "c", "", false}, {"retry", "", "", false},
	{
		"get", "G", "get", true,
	}, {"head", "I", "head", true}, {"compressed", "", "compressed", true}, {"location", "L", "follow", true},
	{
		"insecure", "k", "insecure", true,
	}, {"http2", "", "http2", true}, {"http1.1", "", "", true}, {"silent", "s", "", true},
	{
		"show-error", "S", "", true,
	}, {"verbose", "v", "", true}, {"include", "i", "", true}, {"fail", "f", "", true}, {"progress-bar", "#", "", true},
	{"globoff", "g", "", true}, {"remote-name", "O", "", true}, {"no-buffer", "N", "", true},
}

// taken is an option's value as it is met; it makes curl's options those of package pflag.
type taken struct {
	c    *curl
	what string
}

func (t taken) String() string         { return "" }
func (t taken) Type() string           { return "value" }
func (t taken) Set(value string) error { return t.c.take(t.what, value) }

// secretHeaders are those whose values do not belong into a file.
var secretHeaders = []string{
	"authorization", "proxy-authorization", "cookie", "x-api-key", "x-auth-token", "x-csrf-token",
}

// fromCurl reads a curl command line as browsers and manuals give it. Values that look secret become variables of the
// environment. The error names what cannot be taken over.
func fromCurl(line string) (draft.Imported, error) {
	line = strings.NewReplacer("\\\r\n", " ", "\\\n", " ").Replace(strings.TrimSpace(line))
	words, err := shlex.Split(line)
	if err != nil {
		return draft.Imported{}, errors.New("import: take the line apart: check its quotes")
	}
	if len(words) == 0 || words[0] != "curl" && !strings.HasSuffix(words[0], "/curl") {
		return draft.Imported{}, errors.New("import: paste a line that begins with curl")
	}
	c := curl{}
	options := pflag.NewFlagSet("curl", pflag.ContinueOnError)
	for _, o := range curlOptions {
		f := options.VarPF(taken{&c, o.what}, o.long, o.short, "")
		if o.alone {
			f.NoOptDefVal = "yes"
		}
	}
	if err := options.Parse(words[1:]); err != nil {
		return draft.Imported{}, refused(err)
	}
	for _, address := range options.Args() {
		if err := c.take("url", address); err != nil {
			return draft.Imported{}, fmt.Errorf("import: %w", err)
		}
	}
	return c.finish()
}

// refused says why a line is not taken over.
func refused(err error) error {
	var unknown *pflag.NotExistError
	var bare *pflag.ValueRequiredError
	var wrong *pflag.InvalidValueError
	dashed := func(name string) string {
		if len(name) == 1 {
			return "-" + name
		}
		return "--" + name
	}
	switch {
	case errors.As(err, &unknown):
		return fmt.Errorf(
			"import: %s is not taken over; leave it out, or write the contender by hand", dashed(unknown.GetSpecifiedName()),
		)
	case errors.As(err, &bare):
		return fmt.Errorf("import: nothing follows %s", dashed(bare.GetSpecifiedName()))
	case errors.As(err, &wrong):
		return fmt.Errorf("import: %w", errors.Unwrap(wrong))
	}
	return fmt.Errorf("import: %w", err)
}

// curl is a command line taken apart.
type curl struct {
	url, method, limit string
	headers            [][2]string
	data               []string
	get                bool
	notes, vars        []string
}

func (c *curl) take(what, value string) error {
	switch what {
	case "url":
		if c.url != "" {
			return fmt.Errorf("a second address, %q", value)
		}
		c.url = value
	case "method":
		c.method = strings.ToUpper(value)
	case "header":
		name, text, ok := strings.Cut(value, ":")
		if !ok {
			return fmt.Errorf("%q is not a header", value)
		}
		c.header(strings.TrimSpace(name), strings.TrimSpace(text))
	case "agent":
		c.header("User-Agent", value)
	case "referer":
		c.header("Referer", value)
	case "cookie":
		c.header("Cookie", value)
	case "user":
		c.header("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(value)))
	case "data", "json":
		if strings.HasPrefix(value, "@") {
			return fmt.Errorf("data from a file, %s; paste its contents into body: by hand", value)
		}
		c.data = append(c.data, value)
		if what == "json" {
			c.header("Content-Type", "application/json")
			c.header("Accept", "application/json")
		}
	case "encoded":
		name, text, ok := strings.Cut(value, "=")
		if !ok {
			name, text = "", value
		}
		if name != "" {
			name += "="
		}
		c.data = append(c.data, name+url.QueryEscape(text))
	case "limit":
		c.limit = value + "s"
	case "get":
		c.get = true
	case "head":
		c.method = "HEAD"
	case "compressed":
		c.header("Accept-Encoding", "gzip")
	case "follow":
		c.notes = append(c.notes, "redirects are not followed here: name the final address")
	case "insecure":
		c.notes = append(c.notes, "the server's certificate is checked here: use one that this machine trusts, or http")
	case "http2":
		c.notes = append(c.notes, "HTTP/1.1 is spoken here")
	}
	return nil
}

// header adds a header; a secret becomes a variable.
func (c *curl) header(name, value string) {
	if slices.Contains(secretHeaders, strings.ToLower(name)) {
		variable := strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
		c.vars = append(c.vars, variable)
		c.notes = append(c.notes, fmt.Sprintf("its %s is kept out of this file: export %s=…", name, variable))
		c.set(name, draft.QuoteVars("${"+variable+"}"))
		return
	}
	c.set(name, draft.Quote(value))
}

// set keeps one value for each header: the latest.
func (c *curl) set(name, yaml string) {
	c.headers = slices.DeleteFunc(c.headers, func(h [2]string) bool { return strings.EqualFold(h[0], name) })
	c.headers = append(c.headers, [2]string{name, yaml})
}

func (c *curl) finish() (draft.Imported, error) {
	if c.url == "" {
		return draft.Imported{}, errors.New("import: the line names no address")
	}
	if !strings.Contains(c.url, "://") {
		c.url = "http://" + c.url
	}
	u, err := url.Parse(c.url)
	if err != nil || u.Host == "" {
		return draft.Imported{}, fmt.Errorf("import: %q is not an address", c.url)
	}
	if u.User != nil {
		return draft.Imported{}, errors.New("import: the address holds a password; give it with -u")
	}
	body := strings.Join(c.data, "&")
	if c.get && body != "" {
		u.RawQuery = strings.Trim(u.RawQuery+"&"+body, "&")
		body = ""
	}
	if body != "" && c.method == "" {
		c.method = "POST"
		if !slices.ContainsFunc(c.headers, func(h [2]string) bool { return strings.EqualFold(h[0], "Content-Type") }) {
			c.header("Content-Type", "application/x-www-form-urlencoded")
		}
	}
	parts := []string{"url: " + draft.Quote(u.String())}
	if c.method != "" && c.method != "GET" {
		parts = append(parts, "method: "+draft.QuoteVars(c.method))
	}
	if len(c.headers) > 0 {
		var list []string
		for _, h := range c.headers {
			list = append(list, draft.QuoteVars(h[0])+": "+h[1])
		}
		parts = append(parts, "headers: { "+strings.Join(list, ", ")+" }")
	}
	if body != "" {
		parts = append(parts, "body: "+draft.Quote(body))
	}
	if c.limit != "" {
		parts = append(parts, "timeout: "+c.limit)
	}
	name := strings.Trim(u.Path, "/")
	if i := strings.LastIndex(name, "/"); i >= 0 {
		name = name[i+1:]
	}
	if name == "" {
		name = u.Host
	}
	return draft.Imported{
		Name: name, Settings: "http: { " + strings.Join(parts, ", ") + " }", Notes: c.notes, Vars: c.vars,
	}, nil
}
