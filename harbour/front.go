package harbour

import (
	"crypto/sha256"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"
)

// The front page of the port: a page and what belongs to it. How long each may be kept is what differs, as the query
// says: keep=nothing has everything fetched at each visit, keep=validated has it asked each time whether it still
// holds, and keep=named has what never changes under its name kept for good.

// frontParts are what belongs to the page, and whether each never changes under its name.
var frontParts = map[string]struct {
	kind  string
	fixed bool
	body  func() string
}{
	"": {"text/html", false, sync.OnceValue(func() string {
		return "<!doctype html><title>Skerrow Harbour</title><link rel=stylesheet href=/front/style>" +
			"<img src=/front/chart><script src=/front/board></script><main id=news></main>" +
			strings.Repeat("<p>Pilots on duty at all tides.</p>\n", 60)
	})},
	"style": {"text/css", true, sync.OnceValue(func() string {
		return strings.Repeat(".berth { border: 1px solid slategrey }\n", 400)
	})},
	"board": {"text/javascript", true, sync.OnceValue(func() string {
		return strings.Repeat("export const berth = number => document.getElementById('berth-' + number)\n", 900)
	})},
	"chart": {"image/svg+xml", true, sync.OnceValue(func() string {
		var out strings.Builder
		out.WriteString("<svg xmlns='http://www.w3.org/2000/svg'>")
		for i, depth := range gaugeTable(7)[:6000] {
			fmt.Fprintf(&out, "<path d='M%d %d h1'/>", i, depth)
		}
		out.WriteString("</svg>")
		return out.String()
	})},
	"news": {"application/json", false, func() string {
		return fmt.Sprintf(`{"at":%q,"news":["The north light is lit."]}`, time.Now().UTC().Format("2006-01-02"))
	}},
}

// front answers the page and its parts.
func (s *Service) front(w http.ResponseWriter, r *http.Request) {
	part, ok := frontParts[r.PathValue("part")]
	if !ok {
		http.Error(w, "no such part of the front page", http.StatusNotFound)
		return
	}
	body := part.body()
	h := w.Header()
	h.Set("Content-Type", part.kind)
	tag := fmt.Sprintf(`"%x"`, sha256.Sum256([]byte(body)))[:18] + `"`
	switch keep := r.URL.Query().Get("keep"); {
	case keep == "" || keep == "nothing":
		h.Set("Cache-Control", "no-store")
	case keep == "named" && part.fixed:
		h.Set("Cache-Control", "max-age=31536000, immutable")
		h.Set("Etag", tag)
	case keep == "validated" || keep == "named":
		h.Set("Cache-Control", "no-cache")
		h.Set("Etag", tag)
		if r.Header.Get("If-None-Match") == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
	default:
		http.Error(w, fmt.Sprintf("nothing is kept as %q; there are nothing, validated and named", keep),
			http.StatusBadRequest)
		return
	}
	fmt.Fprint(w, body)
}
