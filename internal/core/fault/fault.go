// Package fault sorts errors by what whoever asked can do about them, so that every face says the same sentence and a
// program knows what to do without reading it.
package fault

import (
	"errors"
	"fmt"
)

// Kinds of fault, for errors.Is. An error of none of them is a refusal: it conflicts with how things stand now.
var (
	ErrNotFound    = errors.New("there is no such thing")  // asking again does not help
	ErrUnavailable = errors.New("it is not to be had now") // asking again later may
	ErrForbidden   = errors.New("whoever asks may not")    // somebody else may
	ErrUnreachable = errors.New("what it is asked of does not answer")
)

type fault struct {
	kind error
	text error
}

// New makes an error of a kind. Its text is the sentence alone; it may wrap others with %w.
func New(kind error, format string, args ...any) error {
	return &fault{kind, fmt.Errorf(format, args...)}
}

// Error implements error.
func (f *fault) Error() string { return f.text.Error() }

// Unwrap is for errors.Is and errors.As.
func (f *fault) Unwrap() []error { return []error{f.kind, f.text} }

// Cause is the innermost error, where the outer ones repeat what is said already.
func Cause(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}
