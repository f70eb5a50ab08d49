package http

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/go-openapi/jsonpointer"

	"paceduel/core/contender"
	"paceduel/core/contender/http/lean"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/core/spans"
)

// Pages is how a list is read page by page.
type Pages struct {
	Next   string `json:"next,omitempty" jsonschema_description:"where a page says which is the next: link (its Link header with rel=next, RFC 8288), or a JSON Pointer to its address. Without one it is the last"`
	Cursor string `json:"cursor,omitempty" jsonschema_description:"instead: a JSON Pointer to a value that the next request has. Without one it is the last"`
	Into   string `json:"into,omitempty" jsonschema_description:"with cursor: the parameter of the URL that it is put into"`
	List   string `json:"list,omitempty" jsonschema_description:"the JSON Pointer of each page's list: the answer is then one list of all of them"`
	Most   int    `json:"most,omitempty" jsonschema:"minimum=1,maximum=10000" jsonschema_description:"so many pages are read and no more; all unless said, and more than 10000 are a failure"`
}

const (
	byLink   = "link"
	maxPages = 10_000
)

// checkPages looks at what says which page is the next.
func (s *Settings) checkPages() (faults []plan.Fault) {
	p := s.Pages
	if p == nil {
		return nil
	}
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: "pages" + key, What: fmt.Sprintf(what, args...), Try: try})
	}
	switch {
	case p.Next == "" && p.Cursor == "":
		fault("", "set next: link, next: /pointer or cursor: /pointer", "nothing says which page is the next")
	case p.Next != "" && p.Cursor != "":
		fault(".cursor", "keep one of them", "both next and cursor are set")
	case p.Cursor != "" && p.Into == "":
		fault("", "set into: and the parameter's name", "nothing says where the cursor is put")
	}
	for _, said := range []struct{ key, pointer string }{{".next", p.Next}, {".cursor", p.Cursor}, {".list", p.List}} {
		if said.pointer == "" || said.key == ".next" && said.pointer == byLink {
			continue
		}
		if _, err := jsonpointer.New(said.pointer); err != nil {
			fault(said.key, "write it as /links/next", "%q is no JSON Pointer", said.pointer)
		}
	}
	const two = "pages and %s do not go together"
	if s.Batch > 0 {
		fault("", "leave one of them out", two, "batch")
	}
	return faults
}

// turner finds the pages of a list one after another. Its zero value is before the first of them.
type turner struct {
	pages    *Pages
	guard    guard.Guard
	n        int             // pages so far
	previous []byte          // the latest of them
	seen     map[string]bool // addresses that were asked
}

// pager reads a list page by page: one shot is all of them, from the start of the first to the end of the last. What
// lies between two pages is ours, and no part of it.
type pager struct {
	*client
	turner turner
	view   shots.View // of the page at hand
	lists  [][]byte   // their items
	bodies [][]byte
	inside []spans.Span
	told   shots.Marks // of all pages, added up
	number uint64      // of the latest page of a sampled shot
}

// onePage is what a page is called inside a shot.
const onePage = "page"

// Shoot reads all pages of a list.
func (p *pager) Shoot(ctx context.Context, shot *shots.Shot) {
	c := p.client
	at := c.d.requests[c.next]
	shot.Row = c.next
	c.next = (c.next + c.step) % len(c.d.requests)
	sampled := c.sampler.next(shot)
	p.turner.begin()
	p.told.Clear()
	p.lists, p.bodies, p.inside = nil, nil, p.inside[:0]
	for n := 1; ; n++ {
		p.view = shots.View{Limit: int(c.d.settings.MaxBody), Sample: true, Body: p.view.Body[:0]}
		page, asked := shots.Shot{View: &p.view}, at
		var id [8]byte
		if sampled {
			p.number++
			id = c.sampler.part(p.number)
			asked = at.marked(shot.Trace, id)
		}
		c.askFor(ctx, &asked, -1, &page)
		p.add(n, &page, shot)
		p.enter(&page, shot, id)
		if page.Class == shots.Cut {
			shot.Class, shot.Err = page.Class, page.Err
			break
		}
		next, err := p.next(&at, &page)
		if err != nil {
			shot.Class, shot.Err = page.Class, fmt.Errorf("page %d: %w", n, err)
			if page.Class == shots.OK {
				shot.Class = shots.Other
			}
			break
		}
		if shot.View != nil {
			p.keep()
		}
		if next == nil {
			break
		}
		at.url = next
	}
	p.end(shot)
	if shot.Class == shots.OK && (c.sampler == nil || sampled) {
		shot.Inside, shot.InsideKnown = p.inside, true
	}
}

// enter makes a span of the page that was added to the shot last. Each needs the one before it.
func (p *pager) enter(page, shot *shots.Shot, id [8]byte) {
	end := shot.Latency()
	sp := spans.Span{
		Name: onePage, Begin: end - page.Latency(), End: end, Parent: spans.None, ID: id, At: page.Start,
	}
	if n := len(p.inside); n > 0 {
		sp.Needs = []int{n - 1}
	}
	p.inside = append(p.inside, sp)
}

// add takes a page into the shot.
func (p *pager) add(n int, page, shot *shots.Shot) {
	if n == 1 {
		shot.Start = page.Start
		if p.d.settings.Trace {
			shot.Trace = page.Trace
		}
		for i := range page.Parts {
			if page.PartsTaken()&(1<<i) != 0 {
				shot.Took(i, page.Parts[i])
			}
		}
		if page.Class == shots.OK {
			shot.Count(lean.FirstPage, int64(page.Latency()))
		}
	} else {
		shot.Aside += page.Start - shot.End
	}
	shot.End, shot.Aside = page.End, shot.Aside+page.Aside
	shot.Sent, shot.Received, shot.Length = shot.Sent+page.Sent, shot.Received+page.Received, shot.Length+page.Length
	for i, amount := range page.Amounts {
		if i != lean.FirstByte || n == 1 {
			shot.Count(i, amount)
		}
	}
	shot.Count(lean.Pages, 1)
	for _, m := range page.Told {
		p.told.Add([]byte(m.Name), m.Unit, m.Value)
	}
}

// end enters what the pages after the first took, and what was answered.
func (p *pager) end(shot *shots.Shot) {
	first := shot.Aside
	for _, part := range shot.Parts[:lean.Further] {
		first += part
	}
	if shot.Class == shots.OK && shot.Amounts[lean.Pages] > 1 {
		shot.Took(lean.Further, max(shot.End-shot.Start-first, 0))
	}
	shot.Told = p.told.List()
	v := shot.View
	if v == nil {
		return
	}
	v.Done, v.Outcome, v.Type, v.Version = p.d.settings.Summary(), p.view.Outcome, p.view.Type, p.view.Version
	v.Headers = p.view.Headers
	body := bytes.Join(p.bodies, []byte{'\n'})
	if p.d.settings.Pages.List != "" && shot.Class == shots.OK {
		body = slices.Concat([]byte{'['}, bytes.Join(p.lists, []byte{','}), []byte{']'})
	}
	v.Known, v.Bytes, v.Body = true, int64(len(body)), body[:min(len(body), v.Room())]
}

// keep adds the page at hand to the answer.
func (p *pager) keep() {
	if list := p.d.settings.Pages.List; list != "" {
		p.lists = append(p.lists, listed(p.view.Body, list)...)
		return
	}
	p.bodies = append(p.bodies, bytes.Clone(p.view.Body))
}

// listed are the items of a list within a page; none where there is no list.
func listed(page []byte, pointer string) (out [][]byte) {
	var items []json.RawMessage
	if found, err := pointed(page, pointer); err == nil {
		if text, err := json.Marshal(found); err == nil && json.Unmarshal(text, &items) == nil {
			for _, item := range items {
				out = append(out, item)
			}
		}
	}
	return out
}

// next is the address of the page after the one at hand, which was asked for at; nil where that was the last.
func (p *pager) next(at *request, page *shots.Shot) (*url.URL, error) {
	if page.Class != shots.OK {
		return nil, page.Err
	}
	return p.turner.next(at, &p.view)
}

// turner is one for the driver's pages.
func (d *driver) turner() turner {
	return turner{pages: d.settings.Pages, guard: d.guard, seen: map[string]bool{}}
}

// begin goes back to before the first page.
func (t *turner) begin() {
	clear(t.seen)
	t.n, t.previous = 0, t.previous[:0]
}

// next is the address of the page after the one in view, which was asked for at; nil where that is the last that is
// wanted.
func (t *turner) next(at *request, page *shots.View) (*url.URL, error) {
	t.n++
	t.seen[at.url.String()] = true
	if t.n > 1 && len(page.Body) > 0 && bytes.Equal(page.Body, t.previous) {
		return nil, fmt.Errorf("it is page %d again", t.n-1)
	}
	t.previous = append(t.previous[:0], page.Body...)
	if t.n > maxPages {
		return nil, fmt.Errorf("there is no end after %d pages", maxPages)
	}
	to, err := t.follow(at, page)
	if to == nil || err != nil {
		return nil, err
	}
	if err := t.guard.Check(to.Hostname()); err != nil {
		return nil, err
	}
	if t.seen[to.String()] {
		return nil, fmt.Errorf("it leads back to %s, which was read already", to.RequestURI())
	}
	if t.n == t.pages.Most {
		return nil, nil
	}
	return to, nil
}

// follow reads where a page leads to.
func (t *turner) follow(at *request, page *shots.View) (*url.URL, error) {
	if t.pages.Next == byLink {
		for _, header := range page.Headers {
			name, value, _ := strings.Cut(header, ": ")
			if !strings.EqualFold(name, "Link") {
				continue
			}
			if to, found := nextLink(value); found {
				return at.url.Parse(to)
			}
		}
		return nil, nil
	}
	if page.Encoding != "" {
		return nil, errCompressed
	}
	pointer := t.pages.Next + t.pages.Cursor
	found, err := pointed(page.Body, pointer)
	if err != nil {
		return nil, err
	}
	var text string
	switch v := found.(type) {
	case nil:
	case string:
		text = v
	case json.Number:
		text = v.String()
	default:
		return nil, fmt.Errorf("what stands at %s is neither a text nor a number", pointer)
	}
	if text == "" {
		return nil, nil
	}
	if t.pages.Next != "" {
		return at.url.Parse(text)
	}
	to := *at.url
	query := to.Query()
	query.Set(t.pages.Into, text)
	to.RawQuery = query.Encode()
	return &to, nil
}

var errCompressed = errors.New("it came compressed, so that nothing in it can be read: leave Accept-Encoding out")

// pointed is what a JSON Pointer leads to in a text; nil where there is nothing.
func pointed(text []byte, pointer string) (any, error) {
	in := json.NewDecoder(bytes.NewReader(text))
	in.UseNumber()
	var whole any
	if err := in.Decode(&whole); err != nil {
		return nil, fmt.Errorf("it is no JSON: %w", err)
	}
	return member(whole, pointer)
}

// member is what a JSON Pointer leads to in a value; nil where there is nothing.
func member(of any, pointer string) (any, error) {
	to, err := jsonpointer.New(pointer)
	if err != nil {
		return nil, err
	}
	found, _, err := to.Get(of)
	if err != nil {
		return nil, nil
	}
	return found, nil
}

// nextLink finds the target of rel=next in the value of a Link header (RFC 8288): links are separated by commas, their
// parameters by semicolons, and both may stand within quotes or brackets, where they mean nothing.
func nextLink(value string) (target string, ok bool) {
	for value != "" {
		value = strings.TrimLeft(value, " \t,")
		if !strings.HasPrefix(value, "<") {
			return "", false
		}
		to, rest, closed := strings.Cut(value[1:], ">")
		if !closed {
			return "", false
		}
		for rest = strings.TrimLeft(rest, " \t"); strings.HasPrefix(rest, ";"); rest = strings.TrimLeft(rest, " \t") {
			var name, own string
			name, own, rest = linkParameter(rest[1:])
			if strings.EqualFold(name, "rel") && containsFold(strings.Fields(own), "next") {
				return to, true
			}
		}
		value = rest
	}
	return "", false
}

// linkParameter reads a parameter of a link, and what comes behind it.
func linkParameter(text string) (name, value, rest string) {
	text = strings.TrimLeft(text, " \t")
	end := strings.IndexAny(text, "=;,")
	if end < 0 {
		return strings.TrimSpace(text), "", ""
	}
	name = strings.TrimSpace(text[:end])
	if text[end] != '=' {
		return name, "", text[end:]
	}
	text = strings.TrimLeft(text[end+1:], " \t")
	if !strings.HasPrefix(text, `"`) {
		if end = strings.IndexAny(text, ";,"); end < 0 {
			end = len(text)
		}
		return name, strings.TrimSpace(text[:end]), text[end:]
	}
	var out strings.Builder
	for i := 1; i < len(text); i++ {
		switch text[i] {
		case '"':
			return name, out.String(), text[i+1:]
		case '\\':
			if i++; i == len(text) {
				return name, out.String(), ""
			}
		}
		out.WriteByte(text[i])
	}
	return name, out.String(), ""
}

func containsFold(words []string, want string) bool {
	for _, w := range words {
		if strings.EqualFold(w, want) {
			return true
		}
	}
	return false
}

var _ contender.Client = (*pager)(nil)
