package agent

import (
	"errors"

	"aditus/internal/target/local/store"
)

// told is an error that was told by the other end, in its words.
type told struct {
	text string
	is   error // nil for none that is told apart
}

func (t *told) Error() string { return t.text }
func (t *told) Unwrap() error { return t.is }

// tell puts an error into an answer.
func (a *answer) tell(err error) {
	if err == nil {
		return
	}
	a.Error = err.Error()
	for name, one := range apart {
		if errors.Is(err, one) {
			a.Is = name
		}
	}
}

// err is the error that an answer tells; nil for none.
func (a *answer) err() error {
	if a.Error == "" {
		return nil
	}
	return &told{a.Error, apart[a.Is]}
}

// err is why an artifact is not there; nil where it is.
func (a Artifact) err() error {
	switch {
	case a.Image != "":
		return nil
	case a.Working:
		return &told{a.Why, store.ErrWorking}
	case a.Final:
		return &told{a.Why, store.ErrBad}
	}
	return &told{a.Why, nil}
}

// artifactOf is what is told of an artifact.
func artifactOf(image string, err error) Artifact {
	if err == nil {
		return Artifact{Image: image}
	}
	return Artifact{Why: err.Error(), Working: errors.Is(err, store.ErrWorking), Final: store.Final(err)}
}
