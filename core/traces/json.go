package traces

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	resource "go.opentelemetry.io/proto/otlp/resource/v1"
)

// request is an ExportTraceServiceRequest in OTLP's own JSON, as far as it is of use: identifiers are hexadecimal,
// numbers of 64 bits may be texts, and unknown members are passed over.
type request struct {
	ResourceSpans []struct {
		Resource struct {
			Attributes []struct {
				Key   string `json:"key"`
				Value struct {
					Text   *string `json:"stringValue"`
					Number *number `json:"intValue"`
				} `json:"value"`
			} `json:"attributes"`
		} `json:"resource"`
		ScopeSpans []struct {
			Spans []struct {
				Trace  string `json:"traceId"`
				ID     string `json:"spanId"`
				Parent string `json:"parentSpanId"`
				Name   string `json:"name"`
				Begin  number `json:"startTimeUnixNano"`
				End    number `json:"endTimeUnixNano"`
			} `json:"spans"`
		} `json:"scopeSpans"`
	} `json:"resourceSpans"`
}

// number is an integer, or a text of one.
type number int64

func (n *number) UnmarshalJSON(text []byte) error {
	v, err := strconv.ParseInt(strings.Trim(string(text), `"`), 10, 64)
	if err != nil {
		return fmt.Errorf("%.40q is no whole number", text)
	}
	*n = number(v)
	return nil
}

// readJSON hands each span of a request to add, and calls broken for one that has no identifiers.
func readJSON(content []byte, add func([16]byte, span), broken func()) error {
	var sent request
	if err := json.Unmarshal(content, &sent); err != nil {
		return fmt.Errorf("read spans: %w", err)
	}
	for _, r := range sent.ResourceSpans {
		var names []string
		for _, a := range r.Resource.Attributes {
			switch {
			case !identifies(a.Key):
			case a.Value.Text != nil:
				names = append(names, a.Key+"="+*a.Value.Text)
			case a.Value.Number != nil:
				names = append(names, fmt.Sprintf("%s=%d", a.Key, *a.Value.Number))
			}
		}
		process := strings.Join(names, " ")
		for _, scope := range r.ScopeSpans {
			for _, s := range scope.Spans {
				var trace [16]byte
				one := span{name: s.Name, process: process, begin: int64(s.Begin), end: int64(s.End)}
				if !unhex(trace[:], s.Trace) || !unhex(one.id[:], s.ID) || s.Parent != "" && !unhex(one.parent[:], s.Parent) {
					broken()
					continue
				}
				add(trace, one)
			}
		}
	}
	return nil
}

// unhex reads an identifier of exactly the length of into.
func unhex(into []byte, text string) bool {
	if len(text) != 2*len(into) {
		return false
	}
	_, err := hex.Decode(into, []byte(text))
	return err == nil
}

// identifies reports whether an attribute of a resource tells processes apart, whose clocks may differ.
func identifies(key string) bool {
	switch key {
	case "service.name", "service.instance.id", "process.pid", "host.name":
		return true
	}
	return false
}

// processOf is what tells the process of a resource from others.
func processOf(r *resource.Resource) string {
	var names []string
	for _, a := range r.GetAttributes() {
		if !identifies(a.GetKey()) {
			continue
		}
		if text := a.GetValue().GetStringValue(); text != "" {
			names = append(names, a.GetKey()+"="+text)
		} else {
			names = append(names, fmt.Sprintf("%s=%d", a.GetKey(), a.GetValue().GetIntValue()))
		}
	}
	return strings.Join(names, " ")
}
