package rounds

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"

	"paceduel/core/result"
	"paceduel/core/weighin"
)

// travelling are the events that may come from a run on another machine, by their names. Ended travels as an ending,
// for the sake of its error; NotKept is of whoever keeps runs, and does not.
var travelling = func() map[string]reflect.Type {
	out := map[string]reflect.Type{}
	for _, e := range []Event{
		Started{}, Building{}, WasBuilt{}, Footed{}, Asking{}, Touched{}, Weighed{}, ServiceIs{}, HeatBegan{}, StageBegan{},
		Progress{}, HeatEnded{}, FloorFound{}, Paused{}, Resumed{}, OrderChanged{}, Crashed{}, AgentsAwaited{},
		AgentReady{},
		AgentsReady{}, AgainRound{}, ending{},
	} {
		t := reflect.TypeOf(e)
		out[strings.ToLower(t.Name())] = t
	}
	return out
}()

// ending is Ended as it travels: without heats, which went before it, one by one.
type ending struct {
	Head  *result.Result
	Err   string   // empty: none
	Kind  string   // what sort of error: of those below, or empty
	Names []string // of contenders that an error is of
	First string   // the first one's trouble
}

func (ending) event() {}

// Sorts of errors that a run may end with, beside others.
const (
	cutShort = "cut"
	failed   = "weigh-in"
	unequal  = "unequal"
)

// parcel is an event in a form that travels.
type parcel struct {
	Event string          `json:"event"`
	Of    json.RawMessage `json:"of"`
}

// PackEvent writes an event for UnpackEvent on another machine; nil for one that does not travel.
func PackEvent(e Event) ([]byte, error) {
	if is, ok := e.(Ended); ok {
		e = endingOf(is)
	}
	name := strings.ToLower(reflect.TypeOf(e).Name())
	if travelling[name] == nil {
		return nil, nil
	}
	of, err := json.Marshal(e)
	if err != nil {
		return nil, fmt.Errorf("write the event %s: %w", name, err)
	}
	return json.Marshal(parcel{name, of})
}

func endingOf(e Ended) ending {
	head := *e.Result
	head.Heats = nil
	out := ending{Head: &head}
	if e.Err == nil {
		return out
	}
	out.Err = e.Err.Error()
	var f *weighin.FailedError
	var u *weighin.UnequalError
	switch {
	case errors.As(e.Err, &f):
		out.Kind, out.Names, out.First = failed, f.Names, f.First
	case errors.As(e.Err, &u):
		out.Kind, out.Names, out.First = unequal, u.Names, u.First
	case errors.Is(e.Err, context.Canceled):
		out.Kind = cutShort
	}
	return out
}

// err is the error that a run elsewhere ended with.
func (e *ending) err() error {
	switch e.Kind {
	case failed:
		return &weighin.FailedError{Names: e.Names, First: e.First}
	case unequal:
		return &weighin.UnequalError{Names: e.Names, First: e.First}
	case cutShort:
		return context.Canceled
	}
	if e.Err != "" {
		return errors.New(e.Err)
	}
	return nil
}

// UnpackEvent reads what PackEvent wrote, which may come from anybody: what is no event is an error. The result of
// Ended has no heats.
func UnpackEvent(text []byte) (Event, error) {
	var p parcel
	if err := json.Unmarshal(text, &p); err != nil {
		return nil, fmt.Errorf("an event that cannot be read: %w", err)
	}
	t := travelling[p.Event]
	if t == nil {
		return nil, fmt.Errorf("%q is no event of a run", p.Event)
	}
	v := reflect.New(t)
	if err := json.Unmarshal(p.Of, v.Interface()); err != nil {
		return nil, fmt.Errorf("the event %s cannot be read: %w", p.Event, err)
	}
	for i := range t.NumField() {
		if f := v.Elem().Field(i); f.Kind() == reflect.Pointer && f.IsNil() {
			return nil, fmt.Errorf("the event %s lacks its %s", p.Event, t.Field(i).Name)
		}
	}
	e := v.Elem().Interface().(Event)
	if is, ok := e.(ending); ok {
		return Ended{Result: is.Head, Err: is.err()}, nil
	}
	return e, nil
}
