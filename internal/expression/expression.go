// Package expression asks questions in CEL (cel.dev) about an object of a cluster's API. What becomes of the answers is for others
// to say.
package expression

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
)

// Question is an expression that is true or false of an object, which it calls "object". It is safe for concurrent use.
type Question struct{ program cel.Program }

// mostCost bounds what a question may compute of one object, in CEL's units of cost.
const mostCost = 1_000_000

var environment = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(cel.Variable("object", cel.MapType(cel.StringType, cel.DynType)))
})

// Compile reads a question.
func Compile(text string) (Question, error) {
	env, err := environment()
	if err != nil {
		return Question{}, err
	}
	ast, issues := env.Compile(text)
	if err := issues.Err(); err != nil {
		return Question{}, errors.New(strings.Join(strings.Fields(err.Error()), " "))
	}
	if ast.OutputType() != cel.BoolType && ast.OutputType() != cel.DynType {
		return Question{}, fmt.Errorf("it must be true or false, and is %s", ast.OutputType())
	}
	program, err := env.Program(ast, cel.CostLimit(mostCost), cel.InterruptCheckFrequency(1000))
	return Question{program}, err
}

// Holds tells whether the question is true of an object. A field that is not there makes it false.
func (q Question) Holds(ctx context.Context, object map[string]any) (bool, error) {
	value, _, err := q.program.ContextEval(ctx, map[string]any{"object": object})
	if err != nil {
		if strings.Contains(err.Error(), "no such key") {
			return false, nil
		}
		return false, err
	}
	holds, ok := value.Value().(bool)
	if !ok {
		return false, fmt.Errorf("it gives %v, not true or false", value.Value())
	}
	return holds, nil
}
