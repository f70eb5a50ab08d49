package result

import "time"

// Crash is a contender that was ended while it worked, and what was there of it afterwards.
type Crash struct {
	Contender string        `json:"contender" text:"name"`
	No        int           `json:"no"`    // from 1
	After     time.Duration `json:"at_ns"` // from its first shot
	// Acknowledged are the records of shots that had a good answer, and Unknown those of shots that had none yet: they may
	// be there or not.
	Acknowledged int64 `json:"acknowledged"`
	Unknown      int64 `json:"unknown"`
	// Records are those that are there, Torn those of them that cannot be read, and Doubled those that are there once
	// more.
	Records int64 `json:"records"`
	Torn    int64 `json:"torn,omitempty"`
	Doubled int64 `json:"doubled,omitempty"`
	// Again is how long it took until it served again, on what it had kept; 0 for what does not serve.
	Again time.Duration `json:"again_ns,omitempty"`
	Said  string        `json:"said,omitempty"` // by the count
	Err   string        `json:"error,omitempty"`
}

// Lost is how many acknowledged records are not there, at least: what had no answer yet may be there in their place.
func (c *Crash) Lost() int64 { return max(c.Acknowledged-(c.Records-c.Torn-c.Doubled), 0) }

// Beyond is how many records are there that nobody can have asked for, beside those that are known to be doubled.
func (c *Crash) Beyond() int64 {
	return max(c.Records-c.Torn-c.Doubled-c.Acknowledged-c.Unknown, 0)
}
