package draft

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/google/shlex"
)

// Imported is a contender made of a pasted curl command line.
type Imported struct {
	Name     string   // a suggestion, from the path
	Settings string   // one line of YAML
	Notes    []string // what was left out or has to be set, for the reader of the plan
	Vars     []string // variables of the environment that stand for its secrets
}

// takesValue lists the options of curl that are followed by a value, by what we make of it; "" is left out quietly.
var takesValue = map[string]string{
	"-X": "method", "--request": "method", "-H": "header", "--header": "header", "--url": "url", "-A": "agent", "--user-agent": "agent",
	"-d": "data", "--data": "data", "--data-raw": "data", "--data-ascii": "data", "--data-binary": "data", "--data-urlencode": "encoded", "--json": "json",
	"-u": "user", "--user": "user", "-b": "cookie", "--cookie": "cookie", "-e": "referer", "--referer": "referer", "-m": "limit", "--max-time": "limit",
	"-o": "", "--output": "", "-w": "", "--write-out": "", "--connect-timeout": "", "-c": "", "--cookie-jar": "", "--retry": "",
}

// alone lists the options without a value.
var alone = map[string]string{
	"-G": "get", "--get": "get", "-I": "head", "--head": "head", "--compressed": "compressed", "-L": "follow", "--location": "follow", "-k": "insecure", "--insecure": "insecure",
	"-s": "", "--silent": "", "-S": "", "--show-error": "", "-v": "", "--verbose": "", "-i": "", "--include": "", "-f": "", "--fail": "", "-#": "", "--globoff": "", "-g": "",
	"--http1.1": "", "--http2": "http2", "-O": "", "-N": "", "--no-buffer": "",
}

// secretHeaders are those whose values do not belong into a file.
var secretHeaders = []string{"authorization", "proxy-authorization", "cookie", "x-api-key", "x-auth-token", "x-csrf-token"}

// FromCurl reads a curl command line as browsers and manuals give it. Values that look secret become variables of the
// environment. The error names what cannot be taken over.
func FromCurl(line string) (Imported, error) {
	line = strings.NewReplacer("\\\r\n", " ", "\\\n", " ").Replace(strings.TrimSpace(line))
	words, err := shlex.Split(line)
	if err != nil {
		return Imported{}, errors.New("import: take the line apart: check its quotes")
	}
	if len(words) == 0 || words[0] != "curl" && !strings.HasSuffix(words[0], "/curl") {
		return Imported{}, errors.New("import: paste a line that begins with curl")
	}
	c := curl{}
	for i := 1; i < len(words); i++ {
		option, value, attached := c.option(words[i])
		what, valued := takesValue[option]
		single, isAlone := alone[option]
		switch {
		case !strings.HasPrefix(words[i], "-"):
			what, value = "url", words[i]
		case valued && !attached:
			if i++; i == len(words) {
				return Imported{}, fmt.Errorf("import: nothing follows %s", option)
			}
			value = words[i]
		case valued:
		case isAlone:
			what, value = single, ""
		default:
			return Imported{}, fmt.Errorf("import: %s is not taken over; leave it out, or write the contender by hand", words[i])
		}
		if err := c.take(what, value); err != nil {
			return Imported{}, fmt.Errorf("import: %w", err)
		}
	}
	return c.finish()
}

// curl is a command line taken apart.
type curl struct {
	url, method, limit string
	headers            [][2]string
	data               []string
	get                bool
	notes, vars        []string
}

// option splits a word into option and value: "--header=x", "-XPOST", and several letters in one ("-sS").
func (c *curl) option(word string) (option, value string, attached bool) {
	if strings.HasPrefix(word, "--") {
		return strings.Cut(word, "=")
	}
	if len(word) > 2 && strings.HasPrefix(word, "-") {
		if _, ok := takesValue[word[:2]]; ok {
			return word[:2], word[2:], true
		}
		for _, letter := range word[1:] {
			what, ok := alone["-"+string(letter)]
			if !ok {
				return word, "", false
			}
			if what != "" {
				c.take(what, "")
			}
		}
		return "-s", "", false // all taken
	}
	return word, "", false
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
			return fmt.Errorf("%q is no header", value)
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
		c.set(name, quote("${"+variable+"}"))
		return
	}
	c.set(name, Quote(value))
}

// set keeps one value for each header: the latest.
func (c *curl) set(name, yaml string) {
	c.headers = slices.DeleteFunc(c.headers, func(h [2]string) bool { return strings.EqualFold(h[0], name) })
	c.headers = append(c.headers, [2]string{name, yaml})
}

func (c *curl) finish() (Imported, error) {
	if c.url == "" {
		return Imported{}, errors.New("import: the line names no address")
	}
	if !strings.Contains(c.url, "://") {
		c.url = "http://" + c.url
	}
	u, err := url.Parse(c.url)
	if err != nil || u.Host == "" {
		return Imported{}, fmt.Errorf("import: %q is no address", c.url)
	}
	if u.User != nil {
		return Imported{}, errors.New("import: the address holds a password; give it with -u")
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
	parts := []string{"url: " + Quote(u.String())}
	if c.method != "" && c.method != "GET" {
		parts = append(parts, "method: "+quote(c.method))
	}
	if len(c.headers) > 0 {
		var list []string
		for _, h := range c.headers {
			list = append(list, quote(h[0])+": "+h[1])
		}
		parts = append(parts, "headers: { "+strings.Join(list, ", ")+" }")
	}
	if body != "" {
		parts = append(parts, "body: "+Quote(body))
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
	return Imported{Name: name, Settings: "http: { " + strings.Join(parts, ", ") + " }", Notes: c.notes, Vars: c.vars}, nil
}
