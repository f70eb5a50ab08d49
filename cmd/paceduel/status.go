package main

import (
	"context"
	"errors"

	"paceduel/core/plan/read"
	"paceduel/core/weighin"
)

// Exit statuses.
const (
	statusDone        = 0   // done
	statusClaims      = 1   // done, and a claim was refuted or is undecided
	statusUsage       = 2   // bad usage or plan
	statusWeighIn     = 3   // a contender failed the weigh-in, or a worker its check
	statusIncomplete  = 4   // the run could not be completed
	statusInterrupted = 130 // interrupted; what was measured is kept
)

// usageError is a mistake on the command line.
type usageError struct{ error }

func (u usageError) Unwrap() error { return u.error }

// errClaims is a run that did not uphold every claim of its plan.
var errClaims = errors.New("not every claim was upheld")

// quietError carries a status whose message has been printed already.
type quietError struct{ error }

func (quietError) Error() string { return "" }

func (q quietError) Unwrap() error { return q.error }

func status(err error) int {
	var problems read.Problems
	var usage usageError
	switch {
	case err == nil:
		return statusDone
	case errors.Is(err, errUnkept):
		return statusIncomplete
	case errors.Is(err, context.Canceled):
		return statusInterrupted
	case errors.As(err, &usage), errors.As(err, &problems):
		return statusUsage
	case errors.Is(err, errClaims):
		return statusClaims
	case weighin.IsFailed(err), errors.Is(err, errWorker):
		return statusWeighIn
	}
	return statusIncomplete
}
